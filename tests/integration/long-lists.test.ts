import { randomUUID } from 'node:crypto'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { ChunkList, type Chunks } from '../../core/content/chunk-list'
import type { ChunkRef, FileEntry, Manifest } from '../../core/content/manifest'
import { openStore } from '../../engine/catalog/stores'
import { collect } from '../../engine/pool/collect'
import { Sorting } from '../../engine/pool/sorting'
import { referredByFull } from '../../engine/runs/referred'
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

/** What is held, without what is only not collected yet. */
function heldBytes(): number {
  collect()
  const { heapUsed, arrayBuffers } = process.memoryUsage()
  return heapUsed + arrayBuffers
}

/** Writes something as one run does, and commits it. */
async function stored(write: (writer: ContentWriter) => Promise<string[]>): Promise<string[]> {
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
    const names = await stored((writer) => writeJson(writer, structuredClone(value)))
    const found = await readJson<object>(store, names)
    // A long list of chunks is packed, and reads as the array that it was.
    expect(JSON.parse(JSON.stringify(found))).toEqual(value)
    const chunks = await chunksOfJson(store, names)
    expect(chunks.length).toBeGreaterThanOrEqual(names.length + 4)
    expect(await store.index.lost(chunks)).toBe(0)
  })

  it('of a table with a million chunks is written and read within the room of what it says', async () => {
    const count = 1_000_000
    const before = heldBytes()
    let most = 0
    const watch = (n: number) => void (n % 100_000 === 0 && (most = Math.max(most, heldBytes() - before)))
    const chunks = new ChunkList()
    for (let n = 0; n < count; n++) chunks.push(piece(n))
    const names = await stored((writer) => writeJson(writer, { databases: [{ tables: [{ path: 'a', chunks }] }] }))
    type Read = { databases: { tables: { path: string; chunks: Chunks }[] }[] }
    const found = (await readJson<Read>(store, names)).databases[0]!.tables[0]!.chunks
    expect(found.length).toBe(count)
    let n = 0
    for (const chunk of found) {
      if (n % 1000 === 0 || n > count - 1000) expect(chunk).toEqual(piece(n))
      watch(n++)
    }
    expect(n).toBe(count)
    let referred = 0
    for await (const part of referredByFull(store, {
      member: 'db',
      databases: [{ tables: [{ path: 'a', chunks: found }] }],
    } as unknown as Manifest))
      referred += part.names.length
    expect(referred).toBe(count)
    // Twice 65 bytes for each, once as it was made and once as it was read; as objects they would take some 800 MB.
    expect(most / 1024 ** 2).toBeLessThan(150)
  })

  it('of a volume with a million files is sorted, written and read without being held', async () => {
    const files = 1_000_000
    const before = heldBytes()
    let most = 0
    const watch = (n: number) => void (n % 100_000 === 0 && (most = Math.max(most, heldBytes() - before)))
    // They come in no order; each number once, because the two have no factor in common.
    const sorting = new Sorting<FileEntry>(({ path }) => path)
    for (let n = 0; n < files; n++) {
      watch(n)
      sorting.add(file((n * 1_234_577) % files))
    }
    let written = 0
    function* inOrder() {
      for (const item of sorting) {
        watch(written++)
        yield item
      }
    }
    const names = await stored((writer) => writeList(writer, inOrder(), ({ path }) => path))
    sorting.close()
    expect(written).toBe(files)
    let [n, last] = [0, '']
    for await (const { path } of readList<FileEntry>(store, names)) {
      watch(n)
      if (path <= last) throw new Error(`${path} comes behind ${last}`)
      last = path
      n++
    }
    expect(n).toBe(files)
    expect(most / 1024 ** 2).toBeLessThan(250)
    // One folder of a thousand is found without going through all of them.
    const lines: string[] = []
    let seen = 0
    for await (const { path } of readList<FileEntry>(store, names, { from: 'archive/77/', to: 'archive/770' })) {
      seen++
      if (path.startsWith('archive/77/')) lines.push(path)
    }
    expect(lines).toEqual(Array.from({ length: files / 1000 }, (_, i) => `archive/77/${i * 1000 + 77}.txt`).sort())
    expect(seen).toBeLessThan(100_000)
  })
})
