import { readRef, refAtTime } from '~~/core/chain/moment-ref'
import type { MomentView, Lifeline } from '~~/server/views'

export interface ChosenPoint {
  id: string
  at: string
  name: string | null
}

/**
 * Which point, or which moment of a log, a page is about: named in the address by its id or reference, or by a time.
 * A time in a log is entered exactly; elsewhere it is the newest point at or before it.
 */
export function usePointChoice(slug: () => string, lifeline: Ref<Lifeline | null>) {
  const route = useRoute()
  const time = computed(() => (route.query.at ? Date.parse(String(route.query.at)) : null))
  const point = computed(() => {
    if (route.query.point) return String(route.query.point)
    const line = lifeline.value
    if (!line) return null
    const at = time.value ?? Infinity
    const inLog = (member: string) => line.coverage[member]?.some(({ from, to }) => Date.parse(from) <= at && at <= Date.parse(to))
    if (time.value !== null && line.members.every(inLog)) {
      const exact = line.points.find((candidate) => Math.abs(Date.parse(candidate.at) - at) < 1)
      return exact?.id ?? refAtTime(slug(), at * 1000)
    }
    return line.points.findLast((candidate) => Date.parse(candidate.at) <= at + 999)?.id ?? null
  })
  const ref = computed(() => (point.value && readRef(point.value) ? point.value : null))
  const { data: moment } = useLoad<MomentView>(() =>
    ref.value ? `/api/vessels/${slug()}/moment?ref=${encodeURIComponent(ref.value)}` : null,
  )
  const chosen = computed((): ChosenPoint | undefined => {
    if (ref.value) return moment.value ? { id: ref.value, at: moment.value.at, name: null } : undefined
    return lifeline.value?.points.find(({ id }) => id === point.value)
  })
  return { point, chosen }
}
