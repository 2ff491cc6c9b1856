/** How much was moved when: milliseconds since the beginning, and from the beginning up to then, bytes, and rows and files. */
export type Sample = [ms: number, bytes: number, things: number]

/** How fast it went between two samples: bytes a second, and rows and files a second. */
export interface Rate {
  fromMs: number
  toMs: number
  bytes: number
  things: number
}

const FIRST_STEP_MS = 1000
const MOST = 240

/**
 * Samples of how work goes on, in bounded space however long it takes: where they become too many, every second one is
 * let go, and from then on they are taken half as often.
 */
export class Pace {
  private taken: Sample[] = []
  private stepMs = FIRST_STEP_MS

  constructor(private readonly most = MOST) {}

  get samples(): readonly Sample[] {
    return this.taken
  }

  /**
   * Takes a sample, unless the last one was taken only just before.
   *
   * @returns whether it was taken
   */
  add(sample: Sample, isLast = false): boolean {
    const last = this.taken.at(-1)
    const since = sample[0] - (last?.[0] ?? -Infinity)
    if (since <= 0 || (since < this.stepMs * 0.9 && !isLast)) return false
    this.taken.push(sample)
    if (this.taken.length > this.most) {
      this.taken = this.taken.filter((_, i) => i % 2 === 0)
      this.stepMs *= 2
    }
    return true
  }
}

export function ratesOf(samples: readonly Sample[]): Rate[] {
  return samples.slice(1).map(([toMs, bytes, things], i) => {
    const [fromMs, bytesBefore, thingsBefore] = samples[i]!
    const seconds = (toMs - fromMs) / 1000
    return { fromMs, toMs, bytes: (bytes - bytesBefore) / seconds, things: (things - thingsBefore) / seconds }
  })
}
