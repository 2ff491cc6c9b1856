import type { VesselView } from '~~/server/views'

/** The vessel of the page, kept up to date. */
export function useVessel() {
  const route = useRoute()
  const slug = computed(() => String(route.params.slug))
  const load = useLoad<VesselView>(() => `/api/vessels/${slug.value}`)
  onChange((change) => ('vessel' in change ? change.vessel : 'id' in change ? change.id : '') === load.data.value?.id, load.refresh, 1000)
  return { slug, ...load }
}
