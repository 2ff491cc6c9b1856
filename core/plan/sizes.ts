import { ASSUMED_RESTORE_RATE } from './state'
import type { Sizes } from './simulate'

/** What was measured of a vessel, all else as a share of its plain bytes; null where there was nothing to measure. */
export interface MeasuredSizes {
  /** What its last full had to read, in plain bytes. */
  plainBytes: number | null
  /** What its first full took in the store. */
  full: number | null
  /** What a later full takes for each day since the one before, and what the others take for each day since what they build on. */
  changedPerDay: number | null
  differentialPerDay: number | null
  incrementalPerDay: number | null
  logPerDay: number | null
  /** Plain bytes that a restore brings back in a second. */
  restoredPerSecond: number | null
}

export const NOTHING_MEASURED: MeasuredSizes = {
  ...{ plainBytes: null, full: null, changedPerDay: null, differentialPerDay: null, incrementalPerDay: null, logPerDay: null },
  restoredPerSecond: null,
}

/** As much of its plain bytes is taken to change in a day where nothing was measured. */
const CHANGES_A_DAY = 0.02
/** And as much of them to be left after compression. */
const COMPRESSED = 0.35

/**
 * What a vessel takes, from what was measured of it; the rest is assumed, and said to be.
 *
 * @param takenBytes of all that its rules take now, as its sources tell
 * @param takes how much more that is than what they took as saved
 * @param compressed what its store makes of plain bytes, where that is known
 */
export function sizesOf(measured: MeasuredSizes, takenBytes: number, takes: number, compressed: number | null): Sizes {
  // What a source takes on its disk, with its indexes, is another figure than what is read of it.
  const plainBytes = measured.plainBytes === null ? takenBytes : measured.plainBytes * takes
  const assumed: string[] = []
  const take = (value: number | null, instead: number, what: string) => {
    if (value === null) assumed.push(what)
    return value ?? instead
  }
  const full = take(measured.full, compressed ?? COMPRESSED, 'how far it is compressed')
  const known = [measured.changedPerDay, measured.differentialPerDay, measured.incrementalPerDay].find((share) => share !== null)
  // What one kind of backup shows of how much changes stands for the others.
  const changes = take(known ?? null, CHANGES_A_DAY * full, `that ${CHANGES_A_DAY * 100} % of it change a day`)
  return {
    fullBytes: full * plainBytes,
    plainBytes,
    changedPerDay: (measured.changedPerDay ?? changes) * plainBytes,
    differentialPerDay: (measured.differentialPerDay ?? changes) * plainBytes,
    incrementalPerDay: (measured.incrementalPerDay ?? changes) * plainBytes,
    logPerDay: (measured.logPerDay ?? changes) * plainBytes,
    restoredPerSecond: take(measured.restoredPerSecond, ASSUMED_RESTORE_RATE, 'how fast it comes back'),
    assumed,
  }
}
