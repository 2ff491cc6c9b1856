import { randomBytes, randomUUID } from 'node:crypto'
import { existsSync, writeFileSync, readdirSync, readFileSync } from 'node:fs'
import { join } from 'node:path'
import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { CODEC } from '../pool/tasks'
import { parseEntry } from './entry'
import { FolderBackend } from './folder'
import { PACK_HEADER_BYTES, PackWriter, packPath } from './pack'
import { ownFolder } from '../../tests/support/folder'

const backend = async () => {
  const folder = new FolderBackend(join(ownFolder('pack'), 'store'))
  await folder.prepare()
  return folder
}
const bytes = (length: number) => new Uint8Array(randomBytes(length)) as Uint8Array<ArrayBuffer>

describe('a pack', () => {
  it('is not there before it is committed, and leaves nothing when it is discarded', async () => {
    const folder = await backend()
    const writer = await PackWriter.open(folder, randomUUID())
    await writer.append(randomBytes(32), 5, { codec: CODEC.zstd, sealed: bytes(40) }, null)
    expect(await folder.list('packs')).toEqual([])
    expect(readdirSync(join(folder.place, 'packs'))).toEqual([`${writer.id}.pack.part`])
    await writer.discard()
    expect(readdirSync(join(folder.place, 'packs'))).toEqual([])
  })

  it('describes itself: every entry can be read by walking over it', async () => {
    await fc.assert(
      fc.asyncProperty(
        fc.array(fc.record({ length: fc.integer({ min: 28, max: 400 }), delta: fc.boolean() }), { minLength: 1, maxLength: 12 }),
        async (wanted) => {
          const folder = await backend()
          const writer = await PackWriter.open(folder, randomUUID())
          const chunks = wanted.map(({ length, delta }) => ({
            name: randomBytes(32),
            sealed: bytes(length),
            base: delta ? randomBytes(32) : null,
          }))
          for (const { name, sealed, base } of chunks) {
            await writer.append(name, sealed.length * 3, { codec: base ? CODEC.delta : CODEC.zstd, sealed }, base)
          }
          const pack = await writer.commit()
          const file = readFileSync(join(folder.place, packPath(pack.id)))
          expect(file.length).toBe(pack.bytes)
          expect(file.subarray(0, 8).toString()).toBe('UVPACK01')
          let at = PACK_HEADER_BYTES
          for (const [i, { name, sealed, base }] of chunks.entries()) {
            expect(pack.entries[i]).toMatchObject({ position: at })
            const entry = parseEntry(file.subarray(at, at + pack.entries[i]!.length))
            expect([entry.name.equals(name), entry.sealed.equals(sealed), entry.plainLength]).toEqual([true, true, sealed.length * 3])
            expect(entry.base?.equals(base!) ?? null).toBe(base ? true : null)
            at += 4 + file.readUInt32BE(at)
          }
          expect(at).toBe(file.length)
        },
      ),
      { numRuns: 20 },
    )
  })

  it('whose entry is not as long as it says is refused', async () => {
    const folder = await backend()
    const writer = await PackWriter.open(folder, randomUUID())
    await writer.append(randomBytes(32), 5, { codec: CODEC.raw, sealed: bytes(40) }, null)
    const pack = await writer.commit()
    const file = readFileSync(join(folder.place, packPath(pack.id)))
    expect(() => parseEntry(file.subarray(PACK_HEADER_BYTES, file.length - 1))).toThrow()
  })
})

describe('a folder', () => {
  it('tells a short or a missing file apart', async () => {
    const folder = await backend()
    const file = await folder.create('packs/a.pack')
    await file.append(Buffer.from('12345'))
    await file.commit()
    expect((await folder.read('packs/a.pack', 1, 3)).toString()).toBe('234')
    await expect(folder.read('packs/a.pack', 1, 30)).rejects.toMatchObject({ code: 'store_file_short' })
    await expect(folder.read('packs/b.pack', 0, 1)).rejects.toMatchObject({ code: 'store_file_missing' })
  })

  it('removes what was begun and never finished, and nothing else', async () => {
    const folder = await backend()
    const whole = await folder.create('packs/whole.pack')
    await whole.commit()
    // Begun by a worker that died; what this process writes itself is left alone.
    for (const path of ['packs/begun.pack.part', 'points/begun.point.part']) writeFileSync(join(folder.place, path), 'half')
    await folder.create('packs/ours.pack')
    expect(await folder.removePending(60_000)).toBe(0)
    expect(await folder.removePending(0)).toBe(2)
    expect(existsSync(join(folder.place, 'packs/ours.pack.part'))).toBe(true)
    expect((await folder.list('packs')).map(({ path }) => path)).toEqual(['packs/whole.pack'])
    expect(existsSync(join(folder.place, 'points/begun.point.part'))).toBe(false)
  })

  it('has space, and a place that is gone is told', async () => {
    const { free, total } = await (await backend()).space()
    expect(total).toBeGreaterThanOrEqual(free)
    await expect(new FolderBackend('/nowhere/at/all').space()).rejects.toMatchObject({ code: 'store_file_missing' })
  })
})
