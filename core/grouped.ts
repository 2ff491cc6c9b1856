/** Values by what they have in common, in the order in which they came. */
export function grouped<T, K>(values: Iterable<T>, by: (value: T) => K): Map<K, T[]> {
  const groups = new Map<K, T[]>()
  for (const value of values) {
    const group = groups.get(by(value))
    if (group) group.push(value)
    else groups.set(by(value), [value])
  }
  return groups
}

/** Some of them at a time. */
export function* inParts<T>(all: Iterable<T>, most: number): Generator<T[]> {
  let part: T[] = []
  for (const item of all) {
    part.push(item)
    if (part.length < most) continue
    yield part
    part = []
  }
  if (part.length > 0) yield part
}
