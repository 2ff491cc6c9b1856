import { durationInWords, plural } from '../time/words'

export type VesselState = 'whole' | 'at risk' | 'broken' | 'paused'

/** What a vessel promises: how much time could be lost at most, and how soon it is back, in milliseconds. */
export interface Promises {
  couldLose: number | null
  backWithin: number | null
}

/** Why nothing is made of a vessel by itself; times as ISO 8601. */
export interface Pause {
  since: string
  /** Null until somebody resumes it. */
  until: string | null
  reason: string
  by: string
  /** What is paused with it: a source by its name, or everything. Absent, the vessel alone. */
  with?: string
}

export interface Standing {
  state: VesselState
  /** In words, one sentence. */
  reason: string
  /** Milliseconds since the newest restorable moment; null when there is none. */
  couldLose: number | null
  /** Milliseconds that bringing everything back is expected to take; null when there is nothing. */
  backWithin: number | null
}

export interface StandingFacts {
  now: Date
  pause: Pause | null
  promises: Promises
  /** The newest restorable moment of the member that is furthest behind. */
  newest: Date | null
  backWithin: number | null
  /** Points of which something can't be read any more, and whether the newest is one of them. */
  damaged: { points: number; newest: boolean }
  /** Of the newest point: things that were to be taken and could not be. */
  missing: number
  /** Volumes of the newest point whose data is only in a snapshot at its source. */
  onePlace: number
  /** The last run that failed after the newest point, in words. */
  lastFailure: string | null
}

// From this share of a promise on, it is at risk.
const AT_RISK = 0.8

/** The state of a vessel, by its promises alone, with its reason. */
export function standingOf(facts: StandingFacts): Standing {
  const { now, newest, promises, backWithin } = facts
  const couldLose = newest ? Math.max(0, now.getTime() - newest.getTime()) : null
  const result = (state: VesselState, reason: string): Standing => ({ state, reason, couldLose, backWithin })
  if (facts.pause) return result('paused', pauseInWords(facts.pause, now))
  if (couldLose === null) {
    return result('broken', facts.lastFailure ?? 'It has not been backed up yet.')
  }
  const late = promises.couldLose !== null && couldLose > promises.couldLose
  if (late) {
    return result('broken', `Nothing newer than ${durationInWords(couldLose)}, and the promise is ${durationInWords(promises.couldLose!)}.`)
  }
  const damage = `${plural(facts.damaged.points, 'point')} can’t come back whole: content can’t be read in the store any more.`
  if (facts.damaged.newest) return result('broken', damage)
  if (facts.damaged.points > 0) return result('at risk', damage)
  if (facts.missing > 0) {
    return result('at risk', `${facts.missing === 1 ? 'One thing' : `${facts.missing} things`} could not be captured last time.`)
  }
  if (facts.onePlace > 0) return result('at risk', `The data of ${plural(facts.onePlace, 'volume')} is only at its source.`)
  if (facts.lastFailure) return result('at risk', facts.lastFailure)
  if (promises.backWithin !== null && backWithin !== null && backWithin > promises.backWithin) {
    return result(
      'at risk',
      `It would take ${durationInWords(backWithin)} to restore, and the promise is ${durationInWords(promises.backWithin)}.`,
    )
  }
  if (promises.couldLose !== null && couldLose > promises.couldLose * AT_RISK) {
    return result('at risk', `A backup is due within ${durationInWords(promises.couldLose - couldLose)}.`)
  }
  const kept = promises.couldLose !== null || promises.backWithin !== null
  return result('whole', kept ? 'Every promise kept.' : 'Restorable. Nothing is promised.')
}

/** `Paused for 2 h by Ansa: the server moves. It goes on in 3 h.` */
function pauseInWords({ since, until, reason, by, with: wider }: Pause, now: Date): string {
  const ms = (text: string) => Math.abs(now.getTime() - Date.parse(text))
  const goesOn = until === null ? '' : ` It goes on in ${durationInWords(ms(until))}.`
  return `Paused for ${durationInWords(ms(since))} by ${by}${wider ? `, with ${wider}` : ''}: ${reason.replace(/\.$/, '')}.${goesOn}`
}

/** Bytes a second that a restore is expected to reach before one has been measured. */
export const ASSUMED_RESTORE_RATE = 25e6

/** Expected milliseconds to restore `bytes`, from the rate of earlier restores where there is one. */
export function estimateRestore(bytes: number, bytesPerSecond: number | null): number {
  const rate = bytesPerSecond && bytesPerSecond > 0 ? bytesPerSecond : ASSUMED_RESTORE_RATE
  const overhead = 1500
  return overhead + (bytes / rate) * 1000
}
