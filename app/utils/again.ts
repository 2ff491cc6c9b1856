import { wishOf, type Wish } from '~~/core/restore/wish'
import type { RunDetail } from '~~/server/views'

// A run once more. What changes what stands goes through the page where it was decided, with a plan made anew.

type Again = Pick<RunDetail, 'id' | 'kind' | 'slug' | 'params'>

/** Where a run is decided on once more; null where it may just be started. */
export function pageOfAgain({ id, kind, slug, params }: Again): string | null {
  if (kind === 'undo') return `/vessels/${slug}/undo?${new URLSearchParams(params.transaction as Record<string, string>)}`
  if (kind !== 'restore' && kind !== 'rehearsal') return null
  // What took another restore back is several points at once; its dialog is with that restore.
  if (typeof params.takesBack === 'string') return `/runs/${params.takesBack}?take-back`
  return `/vessels/${slug}/restore?${new URLSearchParams({ point: String(params.point), again: id })}`
}

/** What a run wished; null for one that was no restore. */
export const wishOfRun = ({ params }: Pick<RunDetail, 'params'>): Wish | null =>
  params.wish ? wishOf(params.wish as Parameters<typeof wishOf>[0]) : null
