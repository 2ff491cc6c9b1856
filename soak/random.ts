/** Random numbers that a seed makes the same each time (mulberry32). */
export class Random {
  constructor(private state: number) {}

  /** From 0 up to 1. */
  next(): number {
    this.state = (this.state + 0x6d2b79f5) | 0
    let t = Math.imul(this.state ^ (this.state >>> 15), 1 | this.state)
    t = (t + Math.imul(t ^ (t >>> 7), 61 | t)) ^ t
    return ((t ^ (t >>> 14)) >>> 0) / 4294967296
  }

  below(count: number): number {
    return Math.floor(this.next() * count)
  }

  of<T>(some: readonly T[]): T {
    return some[this.below(some.length)]!
  }

  /** One of some things, by their weights. */
  weighed<T>(some: readonly (readonly [weight: number, thing: T])[]): T {
    let at = this.next() * some.reduce((sum, [weight]) => sum + weight, 0)
    for (const [weight, thing] of some) if ((at -= weight) < 0) return thing
    return some.at(-1)![1]
  }
}
