import { positionOf } from '../chain/position'
import type { SequenceState } from '../content/manifest'

/** Sequences as they were read; taken at or after a position of the log. */
export interface SequenceReading {
  position: string
  sequences: SequenceState[]
}

/** A sequence at a position: never behind what the source would have given there. */
export interface SequenceAt {
  state: SequenceState
  /** It may be further than it was. */
  ahead: boolean
  /** It was set back about then: what it had given by the position is known only as far as it was read before. */
  setBack: boolean
}

/** Whether a sequence has come further in one state than in another: a number that was given is further than one that comes next. */
function isFurther(a: SequenceState, b: SequenceState): boolean {
  const [x, y] = [BigInt(a.last), BigInt(b.last)]
  if (x !== y) return a.down ? x < y : x > y
  return a.called && !b.called
}

/**
 * Sequences at a position, from readings before and after it. They move without a word in the log, so what was read
 * next after the position is taken, which is at or ahead of it; where a sequence was set back in between, the furthest
 * of what was read on both sides.
 *
 * @param readings in the order of their positions
 * @param wanted names of the sequences that there were
 */
export function sequencesAt(readings: SequenceReading[], position: string, wanted: { schema: string; name: string }[]): SequenceAt[] {
  const at = positionOf(position)!
  const key = ({ schema, name }: { schema: string; name: string }) => JSON.stringify([schema, name])
  const before = new Map<string, SequenceState>()
  const after = new Map<string, SequenceState>()
  for (const { position: readAt, sequences } of readings) {
    // Numbers are given without a new position, so what was read at the very position may be from before it.
    const isAfter = positionOf(readAt)! > at
    for (const state of sequences) {
      if (!isAfter) before.set(key(state), state)
      else if (!after.has(key(state))) after.set(key(state), state)
    }
  }
  return wanted.flatMap((name): SequenceAt[] => {
    const [earlier, next] = [before.get(key(name)), after.get(key(name))]
    if (!earlier && !next) return []
    if (!earlier || !next) return [{ state: (earlier ?? next)!, ahead: !earlier, setBack: false }]
    const setBack = isFurther(earlier, next)
    return [{ state: setBack ? { ...earlier, ownedBy: next.ownedBy } : next, ahead: isFurther(next, earlier), setBack }]
  })
}

/** What a later reading of sequences says that an earlier one did not. */
export function changedSequences(before: SequenceState[], now: SequenceState[]): SequenceState[] {
  const known = new Set(before.map((state) => JSON.stringify(state)))
  return now.filter((state) => !known.has(JSON.stringify(state)))
}
