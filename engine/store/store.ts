import { inParts } from '../../core/grouped'
import type { ChunkChange } from '../../core/changes/apply'
import { VesselError } from '../../core/errors'
import type { PointRecord, SegmentRecord } from '../../core/content/manifest'
import type { ContentPool } from '../pool/pool'
import { CODEC, type OpenTask } from '../pool/tasks'
import { seal, unseal } from '../secrets/seal'
import type { CatalogDb } from '../catalog/connect'
import type { Backend } from './folder'
import type { ChunkIndex, ChunkPlace } from './index'
import type { StoreKeys } from './keys'
import { parseEntry, type ParsedEntry } from './entry'
import { packPath } from './pack'
import { pointPath, segmentPath } from './records'
import { sideBySide, type Placed } from './side-by-side'

/** How far ahead of its reader content is read at most. */
const AHEAD = { bytes: 4 * 1024 * 1024, reads: 64 } as const
const ASKED_AT_ONCE = 256

/** An open store: reads content by name, and keeps point records. Writing content is `ContentWriter`'s. */
export class Store {
  constructor(
    readonly id: string,
    readonly name: string,
    readonly backend: Backend,
    readonly keys: StoreKeys,
    readonly index: ChunkIndex,
    readonly pool: ContentPool,
  ) {}

  /**
   * The plain bytes of a chunk, checked against its name.
   * @throws VesselError `content_missing`, `content_damaged`, and those of the backend.
   */
  async read(name: string, runId: string | null = null): Promise<Uint8Array<ArrayBuffer>> {
    return this.whereItLies(name, runId, (place) => this.readAt(name, place))
  }

  /** Content is put together anew by pruning; whoever finds its pack gone looks once more where it lies now. */
  protected async whereItLies<T>(
    name: string,
    runId: string | null,
    work: (place: ChunkPlace) => Promise<T>,
    known?: ChunkPlace,
  ): Promise<T> {
    const find = () => this.index.find(Buffer.from(name, 'hex'), runId)
    const place = known ?? (await find())
    if (!place) throw this.missing(name)
    try {
      return await work(place)
    } catch (error) {
      if (!(error instanceof VesselError) || error.code !== 'store_file_missing') throw error
      const now = await find()
      if (now?.pack === place.pack) throw error
      if (!now) throw this.missing(name)
      return work(now)
    }
  }

  /** Chunks in their order, some of them read ahead: more where they are small, because each takes its time. */
  async *readAll(names: Iterable<string>): AsyncGenerator<Uint8Array<ArrayBuffer>> {
    const ahead: { reading: Promise<Uint8Array<ArrayBuffer>[]>; bytes: number }[] = []
    let bytes = 0
    const isEnough = () => ahead.length > this.pool.threads + 2 && (bytes > AHEAD.bytes || ahead.length > AHEAD.reads)
    const next = () => {
      const first = ahead.shift()!
      bytes -= first.bytes
      return first.reading
    }
    try {
      for await (const group of this.grouped(names)) {
        const reading = this.readGroup(group)
        // A failure is reported when its turn comes, not as an unhandled one before.
        reading.catch(() => undefined)
        const size = group.reduce((sum, { place }) => sum + (place?.plainLength ?? AHEAD.bytes), 0)
        ahead.push({ reading, bytes: size })
        bytes += size
        while (isEnough()) yield* await next()
      }
      while (ahead.length > 0) yield* await next()
    } finally {
      await Promise.allSettled(ahead.map(({ reading }) => reading))
    }
  }

  /** Chunks with where they lie, which is asked for many at once, and those that can be read at once together. */
  private async *grouped(names: Iterable<string>): AsyncGenerator<Placed[]> {
    for (const part of inParts(names, ASKED_AT_ONCE)) {
      const places = await this.index.places(part)
      yield* sideBySide(part.map((name) => ({ name, place: places.get(name) })))
    }
  }

  private async readGroup(group: Placed[]): Promise<Uint8Array<ArrayBuffer>[]> {
    // What can't be read together is read one by one, which tells what is wrong with which.
    const together = group.length > 1 ? await this.readTogether(group).catch(() => null) : null
    return (
      together ??
      Promise.all(
        group.map(({ name, place }) => (place ? this.whereItLies(name, null, (at) => this.readAt(name, at), place) : this.read(name))),
      )
    )
  }

  private async readTogether(group: Placed[]): Promise<Uint8Array<ArrayBuffer>[]> {
    const { pack, position } = group[0]!.place!
    const lengths = group.map(({ place }) => place!.length)
    const bytes = await this.backend.read(
      packPath(pack),
      position,
      lengths.reduce((sum, length) => sum + length, 0),
    )
    const names = group.map(({ name }) => Buffer.from(name, 'hex'))
    return this.pool.openMany({ bytes, lengths, names, chunkKey: this.keys.chunks, nameKey: this.keys.name })
  }

  readAt(name: string, place: ChunkPlace): Promise<Uint8Array<ArrayBuffer>> {
    return this.openAt(name, place, (task) => this.pool.open(task))
  }

  /** Does work on a sealed chunk where it is opened, on a thread, so that only its result travels. */
  async with<T>(name: string, work: (task: OpenTask) => Promise<T>): Promise<T> {
    return this.whereItLies(name, null, (place) => this.openAt(name, place, work))
  }

  protected async openAt<T>(name: string, place: ChunkPlace, work: (task: OpenTask) => Promise<T>, change?: ChunkChange): Promise<T> {
    const bytes = await this.backend.read(packPath(place.pack), place.position, place.length)
    const entry = this.parse(bytes, name, place)
    const base = entry.base ? await this.read(entry.base.toString('hex')) : null
    try {
      return await work({
        sealed: entry.sealed,
        codec: entry.codec,
        name: Buffer.from(name, 'hex'),
        chunkKey: this.keys.chunks,
        nameKey: this.keys.name,
        base,
        baseName: entry.base,
        ...(change ? { change } : {}),
      })
    } catch (cause) {
      throw this.damaged(name, place, cause)
    }
  }

  private parse(bytes: Buffer, name: string, place: ChunkPlace): ParsedEntry {
    try {
      const entry = parseEntry(bytes)
      if (entry.codec === CODEC.delta && !entry.base) throw new Error('a difference without its base')
      return entry
    } catch (cause) {
      throw this.damaged(name, place, cause)
    }
  }

  protected missing(name: string): VesselError {
    return new VesselError('content_missing', {
      what: `The store ${this.name} does not hold the chunk ${name.slice(0, 16)}…, which a point refers to.`,
      touched: 'Nothing was changed.',
      next: 'Verify the store to see which points are affected, and restore from another point.',
    })
  }

  private damaged(name: string, place: ChunkPlace, cause: unknown): VesselError {
    return new VesselError('content_damaged', {
      what: `The chunk ${name.slice(0, 16)}… in ${packPath(place.pack)} at byte ${place.position} is damaged: its seal does not hold.`,
      touched: 'Nothing was changed. The damaged bytes were not used.',
      next: 'Verify the store to see which points are affected, and restore from another point. Look at the disk.',
      cause,
    })
  }

  /** Writes a point's record: from then on the point exists. */
  async writePoint(record: PointRecord): Promise<void> {
    await this.index.announced.add(pointPath(record.id), record.run)
    return this.rewritePoint(record)
  }

  /** Writes the record of a point that the catalog knows anew: nothing is announced, so that it never goes as left over. */
  rewritePoint(record: PointRecord): Promise<void> {
    return this.writeRecord(pointPath(record.id), record, `point ${record.id}`)
  }

  /** Writes the record of a segment of log: from then on it exists. */
  async writeSegment(record: SegmentRecord): Promise<void> {
    await this.index.announced.add(segmentPath(record.id), record.id)
    return this.writeRecord(segmentPath(record.id), record, `segment ${record.id}`)
  }

  /** Within the transaction in which the catalog gets to know of it. */
  pointCommitted(tx: CatalogDb, id: string): Promise<void> {
    return this.index.announced.settle([pointPath(id)], tx)
  }

  segmentCommitted(tx: CatalogDb, id: string): Promise<void> {
    return this.index.announced.settle([segmentPath(id)], tx)
  }

  /** Removes the record of a point that the catalog did not take. @returns false where it did, though nobody heard of it */
  async dropUnlessTaken(id: string): Promise<boolean> {
    if (!(await this.index.announced.isOpen(pointPath(id)))) return false
    await this.remove([pointPath(id)])
    return true
  }

  private async writeRecord(path: string, record: object, context: string): Promise<void> {
    const sealed = seal(this.keys.seal, Buffer.from(JSON.stringify(record)), context)
    const file = await this.backend.create(path)
    try {
      await file.append(sealed)
      await file.commit()
    } catch (error) {
      await file.discard()
      throw error
    }
  }

  readPoint(id: string): Promise<PointRecord> {
    return this.readRecord<PointRecord>(pointPath(id), `point ${id}`)
  }

  readSegment(id: string): Promise<SegmentRecord> {
    return this.readRecord<SegmentRecord>(segmentPath(id), `segment ${id}`)
  }

  private async readRecord<T>(path: string, what: string): Promise<T> {
    const sealed = await this.backend.readAll(path)
    try {
      return JSON.parse(unseal(this.keys.seal, sealed, what).toString()) as T
    } catch (cause) {
      throw new VesselError('point_damaged', {
        what: `The record of the ${what} in ${this.name} is damaged: its seal does not hold.`,
        touched: 'Nothing was changed.',
        next: 'Restore from another point, and look at the disk.',
        cause,
      })
    }
  }

  /** Removes files that were announced to go, and that the catalog does not know any more. */
  async remove(paths: string[]): Promise<void> {
    for (const path of paths) await this.backend.remove(path)
    await this.index.announced.settle(paths)
  }
}
