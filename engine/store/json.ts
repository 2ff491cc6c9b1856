import { ChunkList, LONG_LIST } from '../../core/content/chunk-list'
import type { Manifest } from '../../core/content/manifest'
import { isOfContent } from './damage'
import type { Store } from './store'
import type { Sink } from './writer'

// Manifests and other JSON in a store. Long lists lie beside it, a line for each of what they hold, cut into chunks of
// whole lines: they may be longer than any text can be, and can be read line by line.

const PIECE = 4 * 1024 * 1024
const LINES = '$lines'

/** What stands in place of a long list: the chunks of its lines, and whether there are more such lists within. */
interface LinesRef {
  [LINES]: string[]
  nested: boolean
  /** The key of the first line of each chunk, where a list is in the order of keys, so that a part of it can be found. */
  firsts?: string[]
}

/** Puts JSON into the store as chunks; returns their names in order. */
export async function writeJson(writer: Sink, value: object): Promise<string[]> {
  return writeRoot(writer, await shortened(writer, value))
}

/**
 * Puts a list into the store whose items come one after the other, and are not held. It is read as any other JSON.
 *
 * @param keyOf where they come in the order of keys: by these a part of the list is found
 */
export async function writeList<T>(writer: Sink, items: AsyncIterable<T> | Iterable<T>, keyOf?: (item: T) => string): Promise<string[]> {
  return writeRoot(writer, await putLines(writer, items, keyOf))
}

async function writeRoot(writer: Sink, root: unknown): Promise<string[]> {
  const bytes = new TextEncoder().encode(JSON.stringify(root))
  const names: string[] = []
  for (let from = 0; from < bytes.length; from += PIECE) {
    names.push((await writer.put(bytes.slice(from, from + PIECE))).name)
  }
  return names
}

const isLong = (value: unknown): value is Iterable<unknown> =>
  (Array.isArray(value) || value instanceof ChunkList) && value.length > LONG_LIST

function holdsLong(value: unknown): boolean {
  if (typeof value !== 'object' || value === null) return false
  return isLong(value) || (!(value instanceof ChunkList) && Object.values(value).some(holdsLong))
}

/** The same with its long lists put into the store. */
async function shortened(writer: Sink, value: unknown): Promise<unknown> {
  if (!holdsLong(value)) return value
  if (isLong(value)) return putLines(writer, value)
  if (Array.isArray(value)) {
    const short: unknown[] = []
    for (const item of value) short.push(await shortened(writer, item))
    return short
  }
  const short: Record<string, unknown> = {}
  for (const [name, field] of Object.entries(value as object)) short[name] = await shortened(writer, field)
  return short
}

async function putLines<T>(writer: Sink, list: AsyncIterable<T> | Iterable<T>, keyOf?: (item: T) => string): Promise<LinesRef> {
  const ref: LinesRef = { [LINES]: [], nested: false, ...(keyOf ? { firsts: [] } : {}) }
  const encoder = new TextEncoder()
  let [lines, length]: [string[], number] = [[], 0]
  const put = async () => {
    ref[LINES].push((await writer.put(encoder.encode(lines.join('')))).name)
    ;[lines, length] = [[], 0]
  }
  for await (const item of list) {
    const isNested = holdsLong(item)
    ref.nested ||= isNested
    if (keyOf && lines.length === 0) ref.firsts!.push(keyOf(item))
    const line = `${JSON.stringify(isNested ? await shortened(writer, item) : item)}\n`
    lines.push(line)
    length += line.length
    if (length >= PIECE) await put()
  }
  if (lines.length > 0) await put()
  return ref
}

// What is written never changes, and browsing asks for the same again and again. Bounded by the bytes it came from.
const cache = new Map<string, { reading: Promise<object>; bytes: number }>()
const CACHED_BYTES = 64 * 1024 * 1024

export const readManifest = (store: Store, names: string[]): Promise<Manifest> => readJson<Manifest>(store, names)

/** What `writeJson` put into the store. It is shared: nobody may change it. */
export const readJson = <T extends object>(store: Store, names: string[]): Promise<T> => cached<T>('', store, names, load)

/** The same without what its long lists hold. */
const rootOf = (store: Store, names: string[]): Promise<object> =>
  cached('root', store, names, async (...from) => (await loadRoot(...from)).value as object)

type Sized = (bytes: number) => void

function cached<T extends object>(
  what: string,
  store: Store,
  names: string[],
  read: (store: Store, names: string[], sized: Sized) => Promise<object>,
): Promise<T> {
  const key = `${what} ${store.id} ${names.join(' ')}`
  const known = cache.get(key)
  if (known) {
    cache.delete(key)
    cache.set(key, known)
    return known.reading as Promise<T>
  }
  const entry = { reading: read(store, names, (bytes) => makeRoom(entry, bytes)), bytes: 0 }
  cache.set(key, entry)
  entry.reading.catch(() => cache.delete(key))
  return entry.reading as Promise<T>
}

function makeRoom(entry: { bytes: number }, bytes: number): void {
  entry.bytes += bytes
  let held = [...cache.values()].reduce((sum, cached) => sum + cached.bytes, 0)
  for (const [key, cached] of cache) {
    if (held <= CACHED_BYTES || cached === entry) continue
    cache.delete(key)
    held -= cached.bytes
  }
}

async function load(store: Store, names: string[], sized: Sized): Promise<object> {
  const { value, hasLists } = await loadRoot(store, names, sized)
  return (hasLists ? await lengthened(store, value, sized) : value) as object
}

async function loadRoot(store: Store, names: string[], sized: Sized = () => undefined): Promise<{ value: unknown; hasLists: boolean }> {
  const pieces: Uint8Array[] = []
  for await (const piece of store.readAll(names)) pieces.push(piece)
  const text = Buffer.concat(pieces)
  sized(text.length)
  return { value: JSON.parse(text.toString()), hasLists: text.includes(`"${LINES}"`) }
}

const refIn = (value: unknown): LinesRef | null =>
  typeof value === 'object' && value !== null && Array.isArray((value as Partial<LinesRef>)[LINES]) ? (value as LinesRef) : null

/** The same with its long lists read again. */
async function lengthened(store: Store, value: unknown, sized: Sized): Promise<unknown> {
  if (typeof value !== 'object' || value === null) return value
  const ref = refIn(value)
  if (ref) {
    return ref.nested ? nestedList(store, ref, sized) : chunksOrList(linesOf(store, ref[LINES], sized))
  }
  const fields = value as Record<string, unknown>
  for (const [name, field] of Object.entries(fields)) fields[name] = await lengthened(store, field, sized)
  return value
}

async function nestedList(store: Store, ref: LinesRef, sized: Sized): Promise<unknown[]> {
  const list: unknown[] = []
  for await (const line of linesOf(store, ref[LINES], sized)) list.push(await lengthened(store, line, sized))
  return list
}

/** A long list of chunks takes little room; any other is an array. */
async function chunksOrList(items: AsyncIterable<unknown>): Promise<unknown[] | ChunkList> {
  const chunks = new ChunkList()
  let list: unknown[] | null = null
  for await (const item of items) {
    if (list) list.push(item)
    else if (ChunkList.fits(item)) chunks.push(item)
    else list = [...chunks, item]
  }
  return list ?? chunks
}

async function* linesOf(store: Store, names: string[], sized: Sized = () => undefined): AsyncGenerator<unknown> {
  for await (const piece of store.readAll(names)) {
    sized(piece.length)
    const text = Buffer.from(piece.buffer, piece.byteOffset, piece.byteLength).toString()
    for (const line of text.split('\n')) if (line !== '') yield JSON.parse(line)
  }
}

/** Keys of which a list is read: from the first on, and behind the last no further. Others may come along. */
export interface KeyRange {
  from: string
  to: string
}

/** What a list holds that `writeJson` put into the store, without the list being held as a whole where it is long. */
export async function* readList<T>(store: Store, names: string[], range?: KeyRange): AsyncGenerator<T> {
  const value = await rootOf(store, names)
  const ref = refIn(value)
  if (!ref) yield* value as unknown as T[]
  else if (!ref.nested) yield* linesOf(store, within(ref, range)) as AsyncGenerator<T>
  else for await (const line of linesOf(store, within(ref, range))) yield (await lengthened(store, line, () => undefined)) as T
}

/** The chunks in which a part of a list lies. */
function within({ [LINES]: names, firsts }: LinesRef, range: KeyRange | undefined): string[] {
  if (!range || !firsts) return names
  return names.filter((_, i) => firsts[i]! <= range.to && (i + 1 === names.length || firsts[i + 1]! >= range.from))
}

/**
 * Every chunk that JSON in a store consists of, those of its long lists too. What lies behind a chunk that can't be read
 * is not known, and not among them.
 */
export async function chunksOfJson(store: Store, names: string[], isWhole = false): Promise<string[]> {
  const chunks = [...names]
  try {
    const { value, hasLists } = await loadRoot(store, names)
    if (hasLists) for await (const ref of refsIn(store, value)) chunks.push(...ref[LINES])
  } catch (error) {
    if (isWhole || !isOfContent(error)) throw error
  }
  return chunks
}

async function* refsIn(store: Store, value: unknown): AsyncGenerator<LinesRef> {
  if (typeof value !== 'object' || value === null) return
  const ref = refIn(value)
  if (ref) {
    yield ref
    if (ref.nested) for await (const line of linesOf(store, ref[LINES])) yield* refsIn(store, line)
    return
  }
  for (const item of Object.values(value)) yield* refsIn(store, item)
}
