import type { Store } from './store'
import { packPath, PackWriter, PACK_BYTES } from './pack'
import { Semaphore } from './semaphore'

/** What became of a chunk: its name, and the bytes that it added to the store. */
export interface Put {
  name: string
  stored: number
}

/** What became of a small piece, which is a chunk and a file of its own. */
export interface PutWhole extends Put {
  /** SHA-256 of the piece, in hexadecimal. */
  sha256: string
}

/** Where content goes. */
export interface Sink {
  put(plain: Uint8Array<ArrayBuffer>, base?: string | null): Promise<Put>
  /** Small pieces together: one by one each would cost more than its bytes. Takes ownership of them. */
  putMany(plains: Uint8Array<ArrayBuffer>[]): Promise<PutWhole[]>
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

  async putMany(plains: Uint8Array<ArrayBuffer>[]): Promise<PutWhole[]> {
    const release = await this.gate.enter()
    try {
      const named = await this.store.pool.nameMany(plains, this.store.keys.name)
      const at = (all: Uint8Array, i: number) => Buffer.from(all.buffer, all.byteOffset + i * 32, 32)
      const pieces = named.plains.map((plain, i) => ({ id: at(named.names, i), plain, sha256: at(named.sums, i).toString('hex') }))
      const put = new Map<string, Promise<Put>>()
      const fresh = new Map<string, (typeof pieces)[number]>()
      for (const piece of pieces) {
        const name = piece.id.toString('hex')
        const known = this.own.get(name)
        if (known) put.set(name, known)
        else fresh.set(name, piece)
      }
      const storing = this.storeMany([...fresh.values()])
      for (const name of fresh.keys()) {
        const own = storing.then((all) => all.get(name)!)
        own.catch(() => undefined)
        this.own.set(name, own)
        put.set(name, own)
      }
      await storing
      const told = new Set<string>()
      return await Promise.all(
        pieces.map(async ({ id, sha256 }) => {
          const name = id.toString('hex')
          // What is the same as a piece before it adds nothing.
          const isFirst = fresh.has(name) && !told.has(name)
          told.add(name)
          return { name, stored: isFirst ? (await put.get(name)!).stored : 0, sha256 }
        }),
      )
    } catch (error) {
      this.failure ??= error
      throw error
    } finally {
      release()
    }
  }

  private async storeMany(pieces: { id: Buffer; plain: Uint8Array<ArrayBuffer> }[]): Promise<Map<string, Put>> {
    const put = new Map<string, Put>()
    if (pieces.length === 0) return put
    const known = await this.store.index.known(
      pieces.map(({ id }) => id),
      this.runId,
    )
    for (const name of known) put.set(name, { name, stored: 0 })
    const missing = pieces.filter(({ id }) => !known.has(id.toString('hex')))
    if (missing.length === 0) return put
    const lengths = missing.map(({ plain }) => plain.length)
    const { seal: key } = this.store.keys
    const sealed = await this.store.pool.sealMany(missing.map(({ id, plain }) => ({ plain, name: id, key, base: null, baseName: null })))
    const entries = missing.map(({ id }, i) => ({ name: id, plainLength: lengths[i]!, chunk: sealed[i]! }))
    const stored = await this.inOrder(async () => {
      this.pack ??= await PackWriter.open(this.store.backend)
      const written = await this.pack.appendMany(entries)
      if (this.pack.bytes >= PACK_BYTES) await this.closePack()
      return written
    })
    for (const [i, { id }] of missing.entries()) {
      const name = id.toString('hex')
      put.set(name, { name, stored: stored[i]! })
      this.stored += stored[i]!
    }
    return put
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
      putMany: async (plains) => {
        const put = await this.putMany(plains)
        for (const one of put) stored += one.stored
        return put
      },
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

  private async closePack(): Promise<void> {
    const pack = this.pack
    if (!pack) return
    const written = await pack.commit()
    this.pack = undefined
    await this.store.index.add(written, this.runId)
  }

  private inOrder<T>(work: () => Promise<T>): Promise<T> {
    const next = this.tail.then(work)
    this.tail = next.catch(() => undefined)
    return next
  }

  /** Makes all that was put so far durable and known to the index, for this run alone. */
  flush(): Promise<void> {
    return this.inOrder(() => this.closePack())
  }

  /** Removes everything that the run has written. Call it when nothing is being put any more. */
  async discard(): Promise<void> {
    await this.tail
    await this.pack?.discard()
    this.pack = undefined
    await discardRun(this.store, this.runId)
  }
}

/** Removes the packs of a run that never committed; also those of a run whose worker died. */
export async function discardRun(store: Store, runId: string): Promise<void> {
  for (const id of await store.index.forgetUncommitted(runId)) await store.backend.remove(packPath(id))
}
