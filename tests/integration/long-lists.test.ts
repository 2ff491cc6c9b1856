import { randomUUID } from 'node:crypto'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { ChunkRef, FileEntry } from '../../core/content/manifest'
import { openStore } from '../../engine/catalog/stores'
import { chunksOfJson, readJson, readList, writeJson, writeList } from '../../engine/store/json'
import type { Store } from '../../engine/store/store'
import { ContentWriter } from '../../engine/store/writer'
import { Workbench } from '../support/engine'

// Manifests of what is large: lists that are longer than any text can be, and that need not be held to be read.

let bench: Workbench
let store: Store

beforeAll(async () => {
  bench = await Workbench.open()
  store = await openStore(bench.engine, { name: 'dry-dock' })
})
afterAll(() => bench?.close())

/** Writes something as one run does, and commits it. */
async function written(write: (writer: ContentWriter) => Promise<string[]>): Promise<string[]> {
  const writer = new ContentWriter(store, randomUUID())
  const names = await write(writer)
  await writer.flush()
  await bench.engine.db.transaction().execute((tx) => writer.commit(tx))
  return names
}

const hex = (n: number, digits: number) => n.toString(16).padStart(digits, '0')
const piece = (n: number): ChunkRef => ({ name: hex(n, 64), rows: n, bytes: 1_000_000, keys: [String(n), String(n + 1)], tail: hex(n, 16) })
const file = (n: number): FileEntry => ({
  path: `archive/${n % 1000}/${n}.txt`,
  type: 'file',
  mode: 0o644,
  uid: 0,
  gid: 0,
  mtime: 1_700_000_000_000 + n,
  size: n,
  digest: hex(n, 128),
  chunks: [hex(n, 64)],
})

describe('JSON in a store', () => {
  it('comes back as it was, with long lists at every place of it', async () => {
    const many = Array.from({ length: 25_000 }, (_, n) => piece(n))
    const value = {
      format: 1,
      databases: [
        {
          name: 'a',
          tables: [{ chunks: many }, { chunks: [] }],
          entries: Array.from({ length: 10_001 }, (_, n) => ({ n, sql: `line\n${n}\u2028` })),
        },
      ],
      nested: Array.from({ length: 10_500 }, (_, n) => (n === 10_400 ? { deep: { list: many } } : { n })),
      none: null,
      short: [1, 'two', [3]],
    }
    const names = await written((writer) => writeJson(writer, structuredClone(value)))
    expect(await readJson(store, names)).toEqual(value)
    const chunks = await chunksOfJson(store, names)
    expect(chunks.length).toBeGreaterThanOrEqual(names.length + 4)
    expect(await store.index.lost(chunks)).toBe(0)
  })

  it('of a volume with 1.6 million files is written and read without being held', { timeout: 300_000 }, async () => {
    // As one text it would be longer than any text can be.
    const files = 1_600_000
    let most = 0
    const watch = (n: number) => void (n % 20_000 === 0 && (most = Math.max(most, process.memoryUsage().heapUsed)))
    function* all() {
      for (let n = 0; n < files; n++) {
        watch(n)
        yield file(n)
      }
    }
    const before = process.memoryUsage().heapUsed
    const names = await written((writer) => writeList(writer, all()))
    let n = 0
    for await (const one of readList(store, names)) {
      watch(n)
      if (n % 99_991 === 0) expect(one).toEqual(file(n))
      n++
    }
    expect(n).toBe(files)
    // With what waits to be collected; held as a whole they take more than twice as much.
    expect(most - before).toBeLessThan(700 * 1024 * 1024)
  })
})
