import { closeSync, mkdtempSync, openSync, readSync, rmSync, writeSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'

/** So many items are held; what is more lies in a file. */
const HELD_AT_MOST = 100_000
const BLOCK = 1024 * 1024

/** Where some items lie in the file, in their order. */
interface Part {
  from: number
  to: number
}

/**
 * Items in the order of their keys, however many there are: what does not fit into memory lies in parts in a file
 * without a name, which is gone with its process, and is gone through as if it were one list. Items are plain JSON.
 */
export class Sorting<T> implements Iterable<T> {
  private held: T[] = []
  private readonly parts: Part[] = []
  private file: number | null = null
  private length = 0
  count = 0

  constructor(
    private readonly keyOf: (item: T) => string,
    private readonly heldAtMost = HELD_AT_MOST,
  ) {}

  add(item: T): void {
    this.held.push(item)
    this.count++
    if (this.held.length >= this.heldAtMost) this.putAside()
  }

  /** The first of those with the same key that were held together comes first. */
  *[Symbol.iterator](): Generator<T> {
    const held = this.inOrder()
    if (this.parts.length === 0) return yield* held
    yield* this.merged([...this.parts.map((part) => this.read(part)), held[Symbol.iterator]()])
  }

  /** Nothing can be read of it any more. */
  close(): void {
    if (this.file !== null) closeSync(this.file)
    this.file = null
    this.held = []
    this.parts.length = 0
  }

  private inOrder(): T[] {
    return this.held.sort((a, b) => compare(this.keyOf(a), this.keyOf(b)))
  }

  private putAside(): void {
    this.file ??= nameless()
    const from = this.length
    let lines: string[] = []
    let size = 0
    const write = () => {
      const bytes = Buffer.from(lines.join(''))
      for (let done = 0; done < bytes.length;) done += writeSync(this.file!, bytes, done, bytes.length - done, this.length + done)
      this.length += bytes.length
      ;[lines, size] = [[], 0]
    }
    for (const item of this.inOrder()) {
      const line = `${JSON.stringify(item)}\n`
      lines.push(line)
      size += line.length
      if (size >= BLOCK) write()
    }
    write()
    this.parts.push({ from, to: this.length })
    this.held = []
  }

  private *read({ from, to }: Part): Generator<T> {
    let rest = Buffer.alloc(0)
    for (let at = from; at < to;) {
      const block = Buffer.alloc(Math.min(BLOCK, to - at))
      at += readSync(this.file!, block, 0, block.length, at)
      const bytes = rest.length > 0 ? Buffer.concat([rest, block]) : block
      const end = bytes.lastIndexOf(10) + 1
      for (const line of bytes.toString('utf8', 0, end).split('\n')) if (line !== '') yield JSON.parse(line) as T
      rest = bytes.subarray(end)
    }
  }

  private *merged(lists: Iterator<T>[]): Generator<T> {
    const next = (list: Iterator<T>): Head<T>[] => {
      const { value, done } = list.next()
      return done ? [] : [{ list, item: value as T, key: this.keyOf(value as T) }]
    }
    const heads = lists.flatMap(next).sort((a, b) => compare(a.key, b.key))
    for (let head = heads.shift(); head; head = heads.shift()) {
      yield head.item
      // They stay in order, so that each place is found in a few steps.
      for (const item of next(head.list)) heads.splice(placeOf(item.key, heads), 0, item)
    }
  }
}

/** The next item of one of several lists. */
interface Head<T> {
  list: Iterator<T>
  item: T
  key: string
}

/** Before the first head whose key is not smaller. */
function placeOf(key: string, heads: Head<unknown>[]): number {
  let [low, high] = [0, heads.length]
  while (low < high) {
    const middle = (low + high) >> 1
    if (heads[middle]!.key < key) low = middle + 1
    else high = middle
  }
  return low
}

const compare = (a: string, b: string) => (a < b ? -1 : a > b ? 1 : 0)

/** A file that nobody else can open, and that nothing has to remove. */
function nameless(): number {
  const folder = mkdtempSync(join(tmpdir(), 'vessel-sort-'))
  try {
    return openSync(join(folder, 'parts'), 'wx+', 0o600)
  } finally {
    rmSync(folder, { recursive: true })
  }
}
