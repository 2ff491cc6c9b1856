import { CODEC, type Codec } from '../pool/tasks'
import { ENTRY_HEADER_BYTES, NAME_BYTES } from './entry'
import { isPackHeader, PACK_HEADER_BYTES, packPath, type PackEntry } from './pack'
import type { Store } from './store'

export interface Rebuilt {
  packs: number
  /** Packs whose entries were put into the index. */
  added: number
  /** Files that can't be walked to their end, with where that stops: at 0 where one does not begin as a pack does. */
  torn: { path: string; position: number }[]
}

/**
 * Makes the index of a store from its packs: what is indexed already stays, so that it goes on where it was
 * interrupted. It reads only the beginning of each entry; whether the content holds is for a verification to say.
 */
export async function rebuildIndex(store: Store, progress: (done: number, of: number) => void = () => undefined): Promise<Rebuilt> {
  const files = await store.backend.list('packs')
  const known = await store.index.knownPaths('packs')
  const rebuilt: Rebuilt = { packs: files.length, added: 0, torn: [] }
  for (const [i, { path, bytes }] of files.entries()) {
    const id = path.slice('packs/'.length, -'.pack'.length)
    if (!known.has(path)) {
      const { entries, end } = await walk(store, id, bytes)
      if (end < bytes) rebuilt.torn.push({ path, position: end })
      if (entries.length > 0) {
        await store.index.addAnew({ id, path, bytes: end, entries })
        rebuilt.added++
      }
    }
    progress(i + 1, files.length)
  }
  return rebuilt
}

const WINDOW_BYTES = 1024 * 1024

/** The entries of a pack one after the other, up to where it holds together. */
async function walk(store: Store, id: string, bytes: number): Promise<{ entries: PackEntry[]; end: number }> {
  const reader = new Window(store, packPath(id), bytes)
  if (bytes < PACK_HEADER_BYTES || !isPackHeader(await reader.read(0, PACK_HEADER_BYTES), id)) return { entries: [], end: 0 }
  const entries: PackEntry[] = []
  let position = PACK_HEADER_BYTES
  while (position + ENTRY_HEADER_BYTES <= bytes) {
    const header = await reader.read(position, Math.min(ENTRY_HEADER_BYTES + NAME_BYTES, bytes - position))
    const length = header.readUInt32BE(0) + 4
    const codec = header.readUInt8(36) as Codec
    if (length < ENTRY_HEADER_BYTES || position + length > bytes || !Object.values(CODEC).includes(codec)) break
    const base = codec === CODEC.delta ? Buffer.from(header.subarray(ENTRY_HEADER_BYTES, ENTRY_HEADER_BYTES + NAME_BYTES)) : null
    entries.push({ name: Buffer.from(header.subarray(4, 36)), codec, base, plainLength: header.readUInt32BE(37), position, length })
    position += length
  }
  return { entries, end: position }
}

/** Small reads of a file through a larger one. */
class Window {
  private bytes: Buffer = Buffer.alloc(0)
  private from = 0

  constructor(
    private readonly store: Store,
    private readonly path: string,
    private readonly size: number,
  ) {}

  async read(position: number, length: number): Promise<Buffer> {
    const at = position - this.from
    if (at < 0 || at + length > this.bytes.length) {
      this.bytes = await this.store.backend.read(this.path, position, Math.min(Math.max(WINDOW_BYTES, length), this.size - position))
      this.from = position
      return this.bytes.subarray(0, length)
    }
    return this.bytes.subarray(at, at + length)
  }
}
