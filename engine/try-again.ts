export interface Patience {
  /** Whether the same may succeed later. */
  isWorth: (error: unknown) => boolean
  pause: () => Promise<unknown>
  patienceMs: number
}

/** Does work again and again until it succeeds, fails in a way that trying again does not help, or the time is over. */
export async function tryAgain<T>(work: () => Promise<T>, { isWorth, pause, patienceMs }: Patience): Promise<T> {
  const until = Date.now() + patienceMs
  for (;;) {
    try {
      return await work()
    } catch (error) {
      if (!isWorth(error) || Date.now() >= until) throw error
      await pause()
    }
  }
}
