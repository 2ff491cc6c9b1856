import { randomUUID } from 'node:crypto'
import type { CatalogDb } from '../catalog/connect'
import { DIGEST_BYTES } from '../pool/digest'
import { NAME_BYTES, type Bounds, type PieceMemory, type Pieces } from '../pool/pieces'
import type { Confirm } from './index'
import type { Store } from './store'
import { packPath, PackWriter, PACK_BYTES } from './pack'
import { Semaphore } from './semaphore'

/** What became of a chunk: its name, and the bytes that it added to the store. */
export interface Put {
  name: string
  stored: number
}

/** What became of a small piece, which is a chunk and a file of its own: with its digest, in hexadecimal. */
export interface PutPiece extends Put {
  digest: string
}

const ASKED_AT_ONCE = 5000
const CLOSING_AT_ONCE = 2

/** Where content goes. */
export interface Sink {
  put(plain: Uint8Array<ArrayBuffer>, base?: string | null): Promise<Put>
  /** Small pieces together. Their memory must not be touched before it is told what became of them. */
  putMany(pieces: Pieces): Promise<PutPiece[]>
  /** Which of many chunks this run may refer to. */
  known(names: string[]): Promise<Set<string>>
  ready(): Promise<void>
  readonly failure: unknown
}

/** The writer of one part of a run. It counts the bytes that this part alone added to the store. */
export interface WriterPart extends Sink {
  /** Bytes that were added since it was asked last. */
  takeStored(): number
}

/**
 * Writes the content of one run: names chunks, stores what the store does not hold yet, as a difference to a
 * similar chunk where that is known and pays. `flush` makes everything durable; only then may a manifest
 * refer to it. `discard` leaves nothing behind.
 */
export class ContentWriter implements Sink {
  private pack: PackWriter | undefined
  private tail: Promise<unknown> = Promise.resolve()
  private readonly closing: Promise<void>[] = []
  /** What this run puts, by name: settled when it is in the store. */
  private readonly puts = new Map<string, Promise<unknown>>()
  private readonly gate: Semaphore
  stored = 0
  /** The first thing that went wrong while writing. */
  failure: unknown

  readonly written = new Set<string>()
  readonly referred = new Set<string>()
  private readonly id = randomUUID()
  private begun: Promise<void> | undefined

  /** @param confirm throws when the run is not the writer's any more */
  constructor(
    private readonly store: Store,
    private readonly runId: string,
    private readonly confirm: Confirm = async () => undefined,
  ) {
    this.gate = new Semaphore(store.pool.threads * 2 + 2)
  }

  /** Takes ownership of `plain`. `base` is the name of a chunk of an earlier point that is probably similar. */
  async put(plain: Uint8Array<ArrayBuffer>, base: string | null = null): Promise<Put> {
    const release = await this.gate.enter()
    try {
      this.refuse()
      const named = await this.store.pool.name(plain, this.store.keys.name)
      const name = Buffer.from(named.name).toString('hex')
      const known = this.puts.get(name)
      if (known) return await known.then(() => ({ name, stored: 0 }))
      const putting = this.putNamed(name, named.plain, base)
      this.puts.set(name, putting)
      return await putting
    } catch (error) {
      this.failure ??= error
      throw error
    } finally {
      release()
    }
  }

  async putMany({ memory, bounds }: Pieces): Promise<PutPiece[]> {
    const release = await this.gate.enter()
    try {
      this.refuse()
      const { names, digests } = await this.store.pool.nameMany({ memory, bounds }, this.store.keys.name)
      const named = bounds.map((bound, i) => {
        const id = Buffer.from(names.buffer, i * NAME_BYTES, NAME_BYTES)
        const digest = Buffer.from(digests.buffer, i * DIGEST_BYTES, DIGEST_BYTES).toString('hex')
        return { id, name: id.toString('hex'), digest, bound }
      })
      // What is the same as a piece before it, here or in another batch, adds nothing.
      const fresh = new Map(named.filter(({ name }) => !this.puts.has(name)).map((piece) => [piece.name, piece]))
      const others = named.filter(({ name }) => !fresh.has(name)).map(({ name }) => this.puts.get(name)!)
      const storing = this.storeMany(memory, [...fresh.values()])
      for (const name of fresh.keys()) this.puts.set(name, storing)
      const stored = await storing
      await Promise.all(others)
      return named.map((piece) => {
        const { name, digest } = piece
        return { name, stored: fresh.get(name) === piece ? (stored.get(name) ?? 0) : 0, digest }
      })
    } catch (error) {
      this.failure ??= error
      throw error
    } finally {
      release()
    }
  }

  /** Stores what the store does not have of pieces, and tells what each of them added. */
  private async storeMany(
    memory: PieceMemory,
    pieces: { id: Buffer; name: string; bound: Bounds[number] }[],
  ): Promise<Map<string, number>> {
    if (pieces.length === 0) return new Map()
    const known = await this.refer(pieces.map(({ id }) => id))
    const missing = pieces.filter(({ name }) => !known.has(name))
    if (missing.length === 0) return new Map()
    const bounds = missing.map(({ bound }) => bound)
    const names = Buffer.concat(missing.map(({ id }) => id))
    const sealed = await this.store.pool.sealMany({ memory, bounds }, names, this.store.keys.chunks)
    const entries = missing.map(({ id, bound: [from, to] }, i) => ({ name: id, plainLength: to - from, ...sealed[i]! }))
    const bytes = entries.reduce((sum, { length }) => sum + length, 0)
    await this.inOrder(async () => {
      this.pack ??= await this.openPack()
      await this.pack.appendMany(entries, memory.entries.subarray(0, bytes))
      if (this.pack.bytes >= PACK_BYTES) await this.closePack()
    })
    this.stored += bytes
    return new Map(missing.map(({ name }, i) => [name, sealed[i]!.length]))
  }

  part(): WriterPart {
    let stored = 0
    const failure = () => this.failure
    return {
      put: async (plain, base) => {
        const put = await this.put(plain, base)
        stored += put.stored
        return put
      },
      putMany: async (pieces) => {
        const put = await this.putMany(pieces)
        for (const piece of put) stored += piece.stored
        return put
      },
      known: (names) => this.known(names),
      ready: () => this.ready(),
      get failure() {
        return failure()
      },
      takeStored: () => {
        const counted = stored
        stored = 0
        return counted
      },
    }
  }

  async known(names: string[]): Promise<Set<string>> {
    const known = new Set<string>()
    for (let from = 0; from < names.length; from += ASKED_AT_ONCE) {
      const part = names.slice(from, from + ASKED_AT_ONCE).map((name) => Buffer.from(name, 'hex'))
      for (const name of (await this.refer(part)).keys()) known.add(name)
    }
    return known
  }

  /** Before it looks for the first time what is there: what it finds must not go before it commits. */
  private begin(): Promise<void> {
    this.begun ??= this.store.index.writerBegins(this.id, this.runId)
    return this.begun
  }

  private async refer(names: Buffer[]): Promise<Map<string, string>> {
    await this.begin()
    const known = await this.store.index.known(names, this.runId)
    for (const pack of known.values()) this.referred.add(pack)
    return known
  }

  /** Waits until `put` would begin at once, so that a source is not read faster than the store is written. */
  ready(): Promise<void> {
    return this.gate.idle()
  }

  private async putNamed(name: string, plain: Uint8Array<ArrayBuffer>, base: string | null): Promise<Put> {
    const id = Buffer.from(name, 'hex')
    await this.begin()
    const there = await this.store.index.findSound(id, this.runId)
    if (there) {
      this.referred.add(there.pack)
      return { name, stored: 0 }
    }
    const plainLength = plain.length
    const similar = base ? await this.baseOf(base) : null
    const chunk = await this.store.pool.seal({
      plain,
      name: id,
      chunkKey: this.store.keys.chunks,
      base: similar?.bytes ?? null,
      baseName: similar?.name ?? null,
    })
    const baseName = chunk.codec === 2 ? similar!.name : null
    const stored = await this.inOrder(() => this.append(id, plainLength, chunk, baseName))
    this.stored += stored
    return { name, stored }
  }

  /** A difference is only ever taken to a chunk that is whole itself, so reading never takes more than two. */
  private async baseOf(name: string): Promise<{ name: Buffer; bytes: Uint8Array<ArrayBuffer> } | null> {
    const place = await this.store.index.findSound(Buffer.from(name, 'hex'), null)
    if (!place) return null
    this.referred.add(place.pack)
    const whole = place.base ?? Buffer.from(name, 'hex')
    return { name: whole, bytes: await this.store.read(whole.toString('hex')) }
  }

  private async openPack(): Promise<PackWriter> {
    const id = randomUUID()
    await this.store.index.announced.add(packPath(id), this.runId)
    return PackWriter.open(this.store.backend, id)
  }

  private async append(...entry: Parameters<PackWriter['append']>): Promise<number> {
    this.pack ??= await this.openPack()
    const stored = await this.pack.append(...entry)
    if (this.pack.bytes >= PACK_BYTES) await this.closePack()
    return stored
  }

  /** Makes a full pack durable while the next one is written; the disk is not waited for as long as it keeps pace. */
  private async closePack(): Promise<void> {
    const pack = this.pack
    if (!pack) return
    this.pack = undefined
    const closing = this.finish(pack)
    closing.catch((error: unknown) => (this.failure ??= error))
    this.closing.push(closing)
    if (this.closing.length > CLOSING_AT_ONCE) await this.closing.shift()
  }

  private async finish(pack: PackWriter): Promise<void> {
    try {
      await this.store.index.add(await pack.commit(), this.runId, this.confirm)
      this.written.add(pack.id)
    } catch (error) {
      await pack.discard()
      throw error
    }
  }

  /** A pack into which a write failed has its later entries in other places than are noted: nothing follows a failure. */
  private refuse(): void {
    if (this.failure !== undefined) throw this.failure
  }

  private inOrder<T>(work: () => Promise<T>): Promise<T> {
    const next = this.tail.then(async () => {
      this.refuse()
      return work().catch((error: unknown) => {
        this.failure ??= error
        throw error
      })
    })
    this.tail = next.catch(() => undefined)
    return next
  }

  /** Makes all that was put so far durable and known to the index, for this run alone. */
  flush(): Promise<void> {
    return this.inOrder(async () => {
      await this.closePack()
      await Promise.all(this.closing)
      this.refuse()
    })
  }

  /** Within the transaction that makes the point: what was written is committed with it. */
  async commit(tx: CatalogDb): Promise<void> {
    this.refuse()
    await this.confirm(tx)
    await this.store.index.commit(tx, this.runId, this)
    await this.store.index.writerEnds(this.id, tx)
  }

  /** Removes everything that the run has written. Call it when nothing is being put any more. */
  async discard(): Promise<void> {
    await this.tail
    await Promise.allSettled(this.closing)
    await this.pack?.discard()
    this.pack = undefined
    await discardRun(this.store, this.runId)
  }
}

/** Removes what a run has written and never committed; also that of a run whose worker died. */
export async function discardRun(store: Store, runId: string): Promise<void> {
  const paths = await store.index.uncommitted(runId)
  for (const path of paths) await store.backend.remove(path)
  await store.index.forget(runId, paths)
}
