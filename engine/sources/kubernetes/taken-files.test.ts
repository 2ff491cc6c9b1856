import { createHash } from 'node:crypto'
import type { Readable } from 'node:stream'
import { extract, pack } from 'tar-stream'
import { describe, expect, it } from 'vitest'
import type { Sink } from '../../store/writer'
import { TakenFiles } from './taken-files'

const digest = (bytes: Uint8Array | string) => createHash('blake2b512').update(bytes).digest('hex')

/** Keeps what is put, by its digest. */
class Kept implements Sink {
  readonly chunks = new Map<string, Buffer>()
  readonly failure = undefined
  batches = 0

  async put(plain: Uint8Array) {
    const name = digest(plain)
    this.chunks.set(name, Buffer.from(plain))
    return { name, stored: plain.length }
  }

  async putMany({ memory, bounds }: Parameters<Sink['putMany']>[0]) {
    this.batches++
    const parts = bounds.map(([from, to]) => Buffer.from(memory.plain.slice(from, to)))
    return Promise.all(parts.map(async (part) => ({ ...(await this.put(part)), digest: digest(part) })))
  }

  async known() {
    return new Set<string>()
  }

  async ready() {}
}

async function take(fill: (archive: ReturnType<typeof pack>) => void) {
  const sink = new Kept()
  const moved = { files: 0, bytes: 0 }
  const count = (files: number, bytes: number) => {
    moved.files += files
    moved.bytes += bytes
  }
  const taken = new TakenFiles('pier/boarding/volume/data', sink, count, [], 0)
  const archive = pack()
  fill(archive)
  archive.finalize()
  const reading = extract()
  reading.on('entry', (header, stream, next) => void taken.take(header, stream as unknown as Readable).then(() => next(), next))
  const ended = new Promise((resolve, reject) => reading.on('finish', resolve).on('error', reject))
  archive.pipe(reading)
  await ended
  const { entries, ...content } = await taken.content([])
  return { ...content, entries: [...entries], sink, moved }
}

describe('the files of an archive', () => {
  it('never lead out of the volume, whatever a container makes of it', async () => {
    const { entries, missing } = await take((archive) => {
      archive.entry({ name: '../../etc/passwd' }, 'root')
      archive.entry({ name: '/etc/shadow' }, 'root')
      archive.entry({ name: './november/../../../out' }, 'x')
      archive.entry({ name: './harmless' }, 'kept')
      archive.entry({ name: './link', type: 'symlink', linkname: '../../etc/passwd' })
      archive.entry({ name: './hard', type: 'link', linkname: '../../etc/passwd' })
    })
    expect(entries.map(({ path }) => path)).toEqual(['hard', 'harmless', 'link'])
    expect(missing.map(({ reason }) => reason)).toEqual(Array(3).fill('Its path leads out of the volume.'))
    // A link is only text; a hard link to what is not in the volume leads nowhere.
    expect(entries.find(({ path }) => path === 'hard')!.target).toBe('')
  })

  it('are whole, small ones together and large ones in parts', async () => {
    const small = Array.from({ length: 700 }, (_, i) => `receipt ${i}\n`.repeat(i))
    const large = Buffer.alloc(3_000_000, 'abcdefghijklmnopqrstuvwxyz0123456789')
    for (let at = 0; at < large.length; at += 977) large[at] = at % 251
    const { entries, bytes, moved, sink } = await take((archive) => {
      for (const [i, text] of small.entries()) archive.entry({ name: `./${String(i).padStart(3, '0')}` }, text)
      archive.entry({ name: './large' }, large)
    })
    for (const [i, entry] of entries.slice(0, 700).entries()) {
      expect(entry.digest).toBe(digest(small[i]!))
      expect(Buffer.concat((entry.chunks ?? []).map((name) => sink.chunks.get(name)!)).toString()).toBe(small[i])
    }
    expect(entries[700]!.digest).toBe(digest(large))
    expect(entries[700]!.chunks!.length).toBeGreaterThan(1)
    expect(Buffer.concat(entries[700]!.chunks!.map((name) => sink.chunks.get(name)!)).equals(large)).toBe(true)
    const all = small.reduce((sum, text) => sum + text.length, large.length)
    expect([bytes, moved.bytes, moved.files]).toEqual([all, all, 701])
    expect(sink.batches).toBeLessThan(10)
  })
})
