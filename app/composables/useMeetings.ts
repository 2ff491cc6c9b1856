import { computed } from 'vue'
import { meetings, type ExpectedRun } from '~~/core/plan/collide'
import { plannedRuns } from '~~/core/plan/cycle'
import { takesFromSource } from '~~/core/plan/paused'
import { scheduleTroubles } from '~~/core/plan/schedule'
import { durationInWords, listInWords } from '~~/core/time/words'
import type { ComingRun } from '~~/server/views'
import { useDraft } from '~/stores/draft'
import { useVessels } from './useKnown'
import { useLoad } from './useLoad'

const WEEK = 7 * 86_400_000
/** What a run takes of which nothing was measured yet. */
const UNKNOWN_MS = 60_000

const expected = ({ at, forMs, vessel, sources }: ComingRun): ExpectedRun => ({
  at: Date.parse(at),
  forMs: forMs ?? UNKNOWN_MS,
  vessel,
  sources,
})

/** In words: whom the runs of the plan that is being written meet at their sources in the next week; empty where nobody. */
export function useMeetings() {
  const draft = useDraft()
  const { data: vessels } = useVessels()
  const { data: coming } = useLoad<ComingRun[]>('/api/coming-runs')
  return computed(() => {
    const { schedule, rules } = draft.definition
    if (!schedule || !coming.value || scheduleTroubles(schedule).length > 0) return ''
    const sources = (draft.sources ?? []).map(({ name }) => name).filter(takesFromSource({ rules }))
    const own = coming.value.filter(({ slug }) => slug === draft.slug)
    const id = vessels.value?.find(({ slug }) => slug === draft.slug)?.id ?? ''
    const now = Date.now()
    const runs = plannedRuns(schedule, draft.scheduled?.last ?? {}, id, now, { until: now + WEEK }).map(({ at, what }): ExpectedRun => {
      const like = own.find((run) => run.what === what)
      return { at, forMs: like?.forMs ?? UNKNOWN_MS, vessel: '', sources }
    })
    const { forMs, meets } = meetings(runs, coming.value.filter(({ slug }) => slug !== draft.slug).map(expected))
    if (meets.length === 0) return ''
    const whom = listInWords(meets.map(({ source, vessels }) => `${listInWords(vessels)} at ${source}`))
    return `In the next week its runs meet ${whom}, for ${durationInWords(forMs)} in all.`
  })
}
