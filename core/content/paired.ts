interface Placed {
  path: string
}
type Listing<T> = Iterable<T> | AsyncIterable<T>

/**
 * Two lists side by side, each in the order of its paths: what both have together, and what one of them has alone.
 * Neither is held.
 */
export async function* paired<A extends Placed, B extends Placed>(
  these: Listing<A>,
  those: Listing<B>,
): AsyncGenerator<[A, B] | [A, null] | [null, B]> {
  const [as, bs] = [cursor(these), cursor(those)]
  try {
    let [a, b] = [await as.next(), await bs.next()]
    while (!a.done || !b.done) {
      if (b.done || (!a.done && a.value.path < b.value.path)) {
        yield [a.value as A, null]
        a = await as.next()
      } else if (a.done || b.value.path < a.value.path) {
        yield [null, b.value]
        b = await bs.next()
      } else {
        yield [a.value, b.value]
        ;[a, b] = [await as.next(), await bs.next()]
      }
    }
  } finally {
    await as.return?.()
    await bs.return?.()
  }
}

const cursor = <T>(list: Listing<T>): AsyncIterator<T> | Iterator<T> =>
  Symbol.asyncIterator in list ? list[Symbol.asyncIterator]() : list[Symbol.iterator]()
