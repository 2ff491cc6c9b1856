/** What is kept of what a program or a server says. */
export const KEPT_CHARACTERS = 64 * 1024

/** A text that somebody else wrote, as it can be kept: a catalog keeps no zero bytes, and nobody reads a hundred megabytes. */
export function storable(text: string): string {
  const kept =
    text.length > KEPT_CHARACTERS ? `${text.slice(0, KEPT_CHARACTERS)}\n… (${text.length - KEPT_CHARACTERS} more characters)` : text
  return kept.replace(/\0|\p{Surrogate}/gu, '\uFFFD')
}

/** Every text in a value as it can be kept; names of fields too. */
export function storableIn<T>(value: T): T {
  if (typeof value === 'string') return storable(value) as T
  if (typeof value !== 'object' || value === null) return value
  if (Array.isArray(value)) return value.map((item: unknown) => storableIn(item)) as T
  return Object.fromEntries(Object.entries(value).map(([name, one]) => [storable(name), storableIn(one as unknown)])) as T
}
