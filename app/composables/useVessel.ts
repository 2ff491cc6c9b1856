import type { VesselView } from '~~/server/views'

/** The vessel of the page, kept up to date. */
export function useVessel() {
  const route = useRoute()
  const slug = computed(() => String(route.params.slug))
  const load = useLoad<VesselView>(() => `/api/vessels/${slug.value}`, { tells: true })
  // While it is being loaded for the first time, any change may be one of it that came too late for that.
  const isOfIt = (id: string) => !load.data.value || load.data.value.id === id
  onChange((change) => isOfIt('vessel' in change ? change.vessel : 'id' in change ? change.id : ''), load.refresh, 1000)
  return { slug, ...load }
}
