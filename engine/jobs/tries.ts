import type { ErrorRecord } from '../../core/errors'

/** How long is waited before each further try of a run of a plan that failed for a reason that may pass. */
export const TRY_AGAIN_MS = [60_000, 120_000, 300_000, 600_000]

/** Reasons that may be gone in a while without anybody's doing. */
const PASSING = new Set([
  'unreachable',
  'connection_lost',
  'connections_exhausted',
  'followers_exhausted',
  'lock_not_given',
  'catalog_away',
  'worker_died',
  'worker_stopped',
  'log_behind',
  'store_no_answer',
  'store_file_missing',
  'volume_read',
])

export const isPassing = (error: ErrorRecord | null): boolean => error !== null && PASSING.has(error.code)
