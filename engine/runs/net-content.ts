import type { NetTable } from '../../core/changes/manifest'
import { netRecords, type SharedNet } from '../../core/changes/net'
import type { ChunkRef, TableManifest } from '../../core/content/manifest'
import { RowChunker } from '../../core/content/rows'
import { LineBuffer } from '../sources/postgres/log/pgoutput'
import type { Store } from '../store/store'
import type { ContentWriter } from '../store/writer'

const CHUNK_BYTES = 1024 * 1024

/** Puts the net changes of a table into the store, as records of a log that hold all at once. */
export async function writeNet(writer: ContentWriter, table: TableManifest, net: SharedNet): Promise<NetTable> {
  const lines = new LineBuffer(CHUNK_BYTES * 2)
  const chunks: Promise<{ name: string }>[] = []
  let [rows, bytes] = [0, 0]
  const put = async () => {
    const chunk = lines.take()
    bytes += chunk.length
    const putting = writer.put(chunk)
    putting.catch(() => undefined)
    chunks.push(putting)
    await writer.ready()
  }
  for (const { before, line } of netRecords(net)) {
    rows++
    if (line === null) lines.record('d', before!)
    else if (before === null) lines.record('I', line)
    else {
      lines.record('k', before)
      lines.record('U', line)
    }
    if (lines.length >= CHUNK_BYTES) await put()
  }
  if (lines.length > 0) await put()
  const key = net.keyAt.map((at) => table.numbers![at]!)
  const names = (await Promise.all(chunks)).map(({ name }) => name)
  return { oid: table.oid, numbers: table.numbers!, key, emptied: net.emptied, rows, bytes, chunks: names }
}

/**
 * Puts a table that is made from other chunks into the store. What was not changed keeps its chunks; the rest is
 * cut anew where its rows say so, so that it meets the old chunks again.
 */
export async function writeTable(
  writer: ContentWriter,
  store: Store,
  table: TableManifest,
  keyColumn: number,
  isStored: (name: string) => boolean,
): Promise<TableManifest> {
  const refs: Promise<ChunkRef>[] = []
  let chunker: RowChunker | null = null
  const put = async ({
    bytes,
    rows,
    keys,
    tail,
  }: {
    bytes: Uint8Array<ArrayBuffer>
    rows: number
    keys: { min: bigint; max: bigint } | null
    tail: string
  }) => {
    const length = bytes.length
    const putting = writer
      .put(bytes)
      .then(({ name }) => ({ name, rows, bytes: length, keys: keys && ([String(keys.min), String(keys.max)] as [string, string]), tail }))
    putting.catch(() => undefined)
    refs.push(putting)
    await writer.ready()
    if (writer.failure) throw writer.failure
  }
  // What is to stay as it is must not go meanwhile: the writer is asked for it.
  const there = await writer.known(table.chunks.flatMap(({ name }) => (isStored(name) ? [name] : [])))
  for (const ref of table.chunks) {
    if (there.has(ref.name) && !chunker?.pending) {
      refs.push(Promise.resolve(ref))
      continue
    }
    chunker ??= new RowChunker({ keyColumn })
    for (const chunk of chunker.push(await store.read(ref.name))) await put(chunk)
  }
  const last = chunker?.finish()
  if (last) await put(last)
  return { ...table, chunks: await Promise.all(refs) }
}
