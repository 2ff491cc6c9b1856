import { durationInWords } from '../time/words'

/** Which consistency was reached, the best first. */
export type Consistency = 'held together' | 'each sound' | 'as found' | 'in use'

/** As it is told to people; the values themselves stand in stores. */
export const CONSISTENCY: Record<Consistency, { word: string; why: string }> = {
  'held together': { word: 'consistent together', why: 'All members were captured in one hold.' },
  'each sound': { word: 'each consistent', why: 'Every member is consistent in itself; they were not held together.' },
  'as found': { word: 'crash-consistent', why: 'Copied as it was found, as after a crash.' },
  'in use': { word: 'read while in use', why: 'Files were read while programs could write to them: they may be of different moments.' },
}

/** A stretch of time in milliseconds, by one clock. */
export interface TimeRange {
  from: number
  to: number
}

/** When and how a member was captured, and how it was held then. */
export interface MemberFacts {
  member: string
  /** A database is sound in itself at any moment, a namespace only while it is held. */
  sound: boolean
  /** From the first to the last moment of what was captured of it; null when it was computed and not captured. */
  captured: TimeRange | null
  /** Its own steps, with what failed of them, in words; empty when nothing holds it. */
  steps: { name: string; stops: boolean; trouble: string | null }[]
  /** How its volumes were read, for a namespace that has some. */
  volumes?: { name: string; read: 'snapshot' | 'in use' | 'at rest' }[]
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

const within = (inner: TimeRange, outer: TimeRange) => inner.from >= outer.from && inner.to <= outer.to

/**
 * What a capture reached. `hold` is the stretch in which every step held, null when there was none: the steps failed,
 * there are none, or it was released before all had begun.
 */
export function consistencyOf(members: MemberFacts[], hold: TimeRange | null): Reached {
  const judged = members.map((facts) => judge(facts, hold))
  const worst = (['in use', 'as found', 'each sound', 'held together'] as const).find((level) =>
    judged.some((member) => member.consistency === level),
  )!
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

/** What volumes are that nothing held, by how they were read. */
function volumesInWords(volumes: NonNullable<MemberFacts['volumes']>): { consistency: Consistency; why: string } {
  const of = (read: 'snapshot' | 'in use' | 'at rest') => volumes.filter((volume) => volume.read === read).map(({ name }) => name)
  const [used, rested] = [of('in use'), of('at rest')]
  if (used.length > 0) {
    const [which, were] =
      used.length === 1 ? [`The volume ${used[0]}`, 'was'] : [`${used.length} volumes (${used.slice(0, 3).join(', ')})`, 'were']
    return {
      consistency: 'in use',
      why: `${which} ${were} read while programs had ${used.length === 1 ? 'it' : 'them'}: files may be of different moments.`,
    }
  }
  const parts = []
  if (of('snapshot').length > 0) parts.push('Its volumes were read from snapshots, each as after a crash.')
  if (rested.length > 0)
    parts.push(
      `No program had ${rested.length === 1 ? `the volume ${rested[0]}` : `${rested.length} volumes`} when reading began and ended.`,
    )
  return { consistency: 'as found', why: parts.join(' ') || 'It is as after a crash.' }
}

function judge({ member, sound, captured, steps, volumes = [] }: MemberFacts, hold: TimeRange | null): MemberConsistency {
  const alone = (why: string, missed: boolean): MemberConsistency => {
    if (sound) return { member, consistency: 'each sound', why: `${why} Its snapshot is consistent in itself.`, missed }
    const read = volumesInWords(volumes)
    return { member, consistency: read.consistency, why: `${why} ${read.why}`, missed }
  }
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
  const how = steps.every(({ stops }) => stops) ? 'Stopped' : 'Held'
  const why = `${how} for ${durationInWords(hold.to - hold.from)}; captured ${durationInWords(captured.from - hold.from)} after the hold was reached, in ${durationInWords(captured.to - captured.from)}.`
  return { member, consistency: 'held together', why, missed: false }
}
