/** Lets a bounded number of tasks in at once. */
export class Semaphore {
  private free: number
  private readonly waiting: (() => void)[] = []

  constructor(size: number) {
    this.free = size
  }

  /** Resolves with the function that lets the next one in. */
  async enter(): Promise<() => void> {
    if (this.free > 0) this.free--
    else await new Promise<void>((resolve) => this.waiting.push(resolve))
    let hasLeft = false
    return () => {
      if (hasLeft) return
      hasLeft = true
      const next = this.waiting.shift()
      if (next) next()
      else this.free++
    }
  }

  /** Resolves as soon as one could enter. */
  async idle(): Promise<void> {
    const leave = await this.enter()
    leave()
  }
}
