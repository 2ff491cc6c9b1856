/** Does work for every item, several at once; the first failure ends it, when those at work are done. */
export async function inParallel<T>(items: Iterable<T>, atOnce: number, work: (item: T) => Promise<void>): Promise<void> {
  const queue = [...items]
  let failure: { error: unknown } | null = null
  const worker = async () => {
    while (queue.length > 0 && !failure) {
      await work(queue.shift()!).catch((error: unknown) => {
        failure ??= { error }
      })
    }
  }
  await Promise.all(Array.from({ length: Math.max(1, Math.min(atOnce, queue.length)) }, worker))
  if (failure) throw (failure as { error: unknown }).error
}
