import { DIGEST_BYTES } from '../pool/digest'
import type { Pieces } from '../pool/tasks'
import type { Store } from './store'
import { packPath, PackWriter, PACK_BYTES } from './pack'
import { Semaphore } from './semaphore'

/** What became of a chunk: its name, and the bytes that it added to the store. */
export interface Put {
  name: string
  stored: number
}

/** What became of small pieces, each a chunk and a file of its own; and their buffer, for the next ones. */
export interface PutMany {
  bytes: Uint8Array<ArrayBuffer>
  /** With the digest of each, in hexadecimal. */
  put: (Put & { digest: string })[]
}

const ASKED_AT_ONCE = 5000
const CLOSING_AT_ONCE = 2

/** Where content goes. */
export interface Sink {
  put(plain: Uint8Array<ArrayBuffer>, base?: string | null): Promise<Put>
  /** Small pieces together: one by one each would cost more than its bytes. The buffer is away until it comes back. */
  putMany(pieces: Pieces): Promise<PutMany>
  /** Which of many chunks this run may refer to. */
  known(names: string[]): Promise<Set<string>>
  ready(): Promise<void>
  readonly failure: unknown
}

/** What a part of a run writes with: it counts what its own content added to the store. */
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
  private readonly own = new Map<string, Promise<Put>>()
  private readonly gate: Semaphore
  stored = 0
  /** The first thing that went wrong while writing. */
  failure: unknown

  constructor(
    private readonly store: Store,
    private readonly runId: string,
  ) {
    this.gate = new Semaphore(store.pool.threads * 2 + 2)
  }

  /** Takes ownership of `plain`. `base` is the name of a chunk of an earlier point that is probably similar. */
  async put(plain: Uint8Array<ArrayBuffer>, base: string | null = null): Promise<Put> {
    const release = await this.gate.enter()
    try {
      const named = await this.store.pool.name(plain, this.store.keys.name)
      const name = Buffer.from(named.name).toString('hex')
      const known = this.own.get(name)
      if (known) return { name: (await known).name, stored: 0 }
      const putting = this.putNamed(name, named.plain, base)
      this.own.set(name, putting)
      return await putting
    } catch (error) {
      this.failure ??= error
      throw error
    } finally {
      release()
    }
  }

  async putMany(pieces: Pieces): Promise<PutMany> {
    const release = await this.gate.enter()
    try {
      const { names, digests, bytes } = await this.store.pool.nameMany(pieces, this.store.keys.name)
      const named = pieces.bounds.map((bound, i) => ({
        id: Buffer.from(names.buffer, i * 32, 32),
        digest: Buffer.from(digests.buffer, i * DIGEST_BYTES, DIGEST_BYTES).toString('hex'),
        bound,
      }))
      const put = new Map<string, Promise<Put>>()
      const fresh = new Map<string, (typeof named)[number]>()
      for (const piece of named) {
        const name = piece.id.toString('hex')
        const known = this.own.get(name)
        if (known) put.set(name, known)
        else fresh.set(name, piece)
      }
      const storing = this.storeMany(bytes, [...fresh.values()])
      for (const name of fresh.keys()) {
        const own = storing.then((all) => all.put.get(name)!)
        own.catch(() => undefined)
        this.own.set(name, own)
        put.set(name, own)
      }
      const whole = await storing
      const told = new Set<string>()
      const puts = named.map(async ({ id, digest }) => {
        const name = id.toString('hex')
        // What is the same as a piece before it adds nothing.
        const isFirst = fresh.has(name) && !told.has(name)
        told.add(name)
        const { stored } = await put.get(name)!
        return { name, stored: isFirst ? stored : 0, digest }
      })
      return { bytes: whole.bytes, put: await Promise.all(puts) }
    } catch (error) {
      this.failure ??= error
      throw error
    } finally {
      release()
    }
  }

  private async storeMany(
    bytes: Uint8Array<ArrayBuffer>,
    pieces: { id: Buffer; bound: [number, number] }[],
  ): Promise<{ bytes: Uint8Array<ArrayBuffer>; put: Map<string, Put> }> {
    const put = new Map<string, Put>()
    if (pieces.length === 0) return { bytes, put }
    const ids = pieces.map(({ id }) => id)
    const known = await this.store.index.known(ids, this.runId)
    for (const name of known) put.set(name, { name, stored: 0 })
    const missing = pieces.filter(({ id }) => !known.has(id.toString('hex')))
    if (missing.length === 0) return { bytes, put }
    const names = missing.map(({ id }) => id)
    const sealed = await this.store.pool.sealMany({ bytes, bounds: missing.map(({ bound }) => bound) }, names, this.store.keys.seal)
    const entries = missing.map(({ id, bound: [from, to] }, i) => ({ name: id, plainLength: to - from, ...sealed.chunks[i]! }))
    const stored = await this.inOrder(async () => {
      this.pack ??= await PackWriter.open(this.store.backend)
      const written = await this.pack.appendMany(entries, sealed.sealed)
      if (this.pack.bytes >= PACK_BYTES) await this.closePack()
      return written
    })
    for (const [i, { id }] of missing.entries()) {
      const name = id.toString('hex')
      put.set(name, { name, stored: stored[i]! })
      this.stored += stored[i]!
    }
    return { bytes: sealed.bytes, put }
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
        const many = await this.putMany(pieces)
        for (const one of many.put) stored += one.stored
        return many
      },
      known: (names) => this.known(names),
      ready: () => this.ready(),
      get failure() {
        return failure()
      },
      takeStored: () => {
        const taken = stored
        stored = 0
        return taken
      },
    }
  }

  async known(names: string[]): Promise<Set<string>> {
    const known = new Set<string>()
    for (let from = 0; from < names.length; from += ASKED_AT_ONCE) {
      const part = names.slice(from, from + ASKED_AT_ONCE).map((name) => Buffer.from(name, 'hex'))
      for (const name of await this.store.index.known(part, this.runId)) known.add(name)
    }
    return known
  }

  /** Waits until `put` would begin at once, so that a source is not read faster than the store is written. */
  ready(): Promise<void> {
    return this.gate.idle()
  }

  private async putNamed(name: string, plain: Uint8Array<ArrayBuffer>, base: string | null): Promise<Put> {
    const id = Buffer.from(name, 'hex')
    if (await this.store.index.find(id, this.runId)) return { name, stored: 0 }
    const plainLength = plain.length
    const similar = base ? await this.baseOf(base) : null
    const chunk = await this.store.pool.seal({
      plain,
      name: id,
      key: this.store.keys.seal,
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
    const place = await this.store.index.find(Buffer.from(name, 'hex'), null)
    if (!place) return null
    const whole = place.base ?? Buffer.from(name, 'hex')
    return { name: whole, bytes: await this.store.read(whole.toString('hex')) }
  }

  private async append(...entry: Parameters<PackWriter['append']>): Promise<number> {
    this.pack ??= await PackWriter.open(this.store.backend)
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
      await this.store.index.add(await pack.commit(), this.runId)
    } catch (error) {
      await pack.discard()
      throw error
    }
  }

  private inOrder<T>(work: () => Promise<T>): Promise<T> {
    const next = this.tail.then(work)
    this.tail = next.catch(() => undefined)
    return next
  }

  /** Makes all that was put so far durable and known to the index, for this run alone. */
  flush(): Promise<void> {
    return this.inOrder(async () => {
      await this.closePack()
      await Promise.all(this.closing)
    })
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

/** Removes the packs of a run that never committed; also those of a run whose worker died. */
export async function discardRun(store: Store, runId: string): Promise<void> {
  for (const id of await store.index.forgetUncommitted(runId)) await store.backend.remove(packPath(id))
}
