import { effectScope, onScopeDispose, type EffectScope } from 'vue'
import type { Change, DeletedPlaceView, GoneVesselView, OpenHold, RunRow, SourceView, Standing, StoreView } from '~~/server/views'
import { useLoads } from '~/stores/loads'
import { onChange } from './useLive'
import { useLoad } from './useLoad'

/**
 * What several pages show, kept as it is now: however many show it, one change asks for it once.
 *
 * @param isOf whether it may be another one after a change
 * @param every milliseconds between two requests at least
 */
function known<T>(url: string, isOf: (change: Change) => boolean, every: number) {
  let users = 0
  let live: EffectScope | undefined
  return (how: { tells?: boolean } = {}) => {
    const loads = useLoads()
    const load = useLoad<T>(url, how)
    if (users++ === 0) {
      live = effectScope(true)
      live.run(() => onChange(isOf, () => loads.refresh(url), every))
    }
    onScopeDispose(() => --users === 0 && live?.stop())
    return load
  }
}

export const useSources = known<SourceView[]>('/api/sources', ({ about }) => about === 'things', 1000)
export const useStores = known<StoreView[]>(
  '/api/stores',
  (change) => change.about === 'store' || (change.about === 'run' && change.state !== 'running'),
  1500,
)
export const useVessels = known<Standing[]>('/api/vessels', ({ about }) => about !== 'things', 1500)
/** Vessels that were deleted, as long as anything of them stays. */
export const useGoneVessels = known<GoneVesselView[]>('/api/gone-vessels', ({ about }) => about === 'vessel', 1500)
export const useDeletedPlaces = known<DeletedPlaceView[]>(
  '/api/deleted-places',
  ({ about }) => about === 'store' || about === 'things',
  1500,
)
/** Runs that wait or go on. */
export const useRunning = known<RunRow[]>('/api/runs?states=waiting,running', ({ about }) => about === 'run', 1000)
/** What is held at sources. */
export const useHolds = known<OpenHold[]>('/api/holds', ({ about }) => about === 'hold', 100)
