import { durationInWords } from '../time/words'

/** Which consistency was reached, the best first. */
export type Consistency = 'held together' | 'each sound' | 'as found'

/** As it is told to people; the values themselves stand in stores. */
export const CONSISTENCY: Record<Consistency, { word: string; why: string }> = {
  'held together': { word: 'consistent together', why: 'All members were captured in one hold.' },
  'each sound': { word: 'each consistent', why: 'Every member is consistent in itself; they were not held together.' },
  'as found': { word: 'crash-consistent', why: 'Copied as it was found, as after a crash.' },
}

/** A stretch of time in milliseconds, by one clock. */
export interface Stretch {
  from: number
  to: number
}

/** When and how a member was captured, and how it was held then. */
export interface MemberFacts {
  member: string
  /** A database is sound in itself at any moment, a namespace only while it is held. */
  sound: boolean
  /** From the first to the last moment of what was captured of it; null when it was computed and not captured. */
  captured: Stretch | null
  /** Its own steps, with what failed of them, in words; empty when nothing holds it. */
  steps: { name: string; trouble: string | null }[]
}

export interface MemberConsistency {
  member: string
  consistency: Consistency
  why: string
  /** It was to be held, and was not while it was captured. */
  missed: boolean
}

export interface Reached {
  consistency: Consistency
  why: string
  members: MemberConsistency[]
}

const within = (inner: Stretch, outer: Stretch) => inner.from >= outer.from && inner.to <= outer.to

/**
 * What a capture reached. `hold` is the stretch in which every step held, null when there was none: the steps failed,
 * there are none, or it was released before all had begun.
 */
export function consistencyOf(members: MemberFacts[], hold: Stretch | null): Reached {
  const judged = members.map((facts) => judge(facts, hold))
  const worst = (['as found', 'each sound', 'held together'] as const).find((level) => judged.some((one) => one.consistency === level))!
  const first = judged.find(({ consistency }) => consistency === worst)!
  const why =
    worst === 'held together'
      ? members.length === 1
        ? 'It was captured while it was held.'
        : `All ${members.length} members were captured in one hold.`
      : judged.length === 1
        ? first.why
        : `${first.member}: ${first.why}`
  return { consistency: worst, why, members: judged }
}

function judge({ member, sound, captured, steps }: MemberFacts, hold: Stretch | null): MemberConsistency {
  const alone = (why: string, missed: boolean): MemberConsistency =>
    sound
      ? { member, consistency: 'each sound', why: `${why} Its snapshot is consistent in itself.`, missed }
      : { member, consistency: 'as found', why: `${why} It is as after a crash.`, missed }
  if (captured === null) {
    const why = 'It was computed from its log or from what changed, not captured in a hold.'
    return { member, consistency: 'each sound', why, missed: false }
  }
  if (steps.length === 0) return alone('Nothing quiesces it.', false)
  const failed = steps.find(({ trouble }) => trouble !== null)
  if (failed) return alone(`Its step “${failed.name}” failed: ${failed.trouble}`, true)
  if (!hold) return alone('It was not held: not every step of the sequence came about.', true)
  if (!within(captured, hold)) {
    const late = captured.to - hold.to
    return alone(late > 0 ? `The hold ended ${durationInWords(late)} before it was captured.` : 'Its capture began before the hold.', true)
  }
  const why = `Held for ${durationInWords(hold.to - hold.from)}; captured ${durationInWords(captured.from - hold.from)} after the hold was reached, in ${durationInWords(captured.to - captured.from)}.`
  return { member, consistency: 'held together', why, missed: false }
}
