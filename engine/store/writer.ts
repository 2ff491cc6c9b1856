import type { Store } from './store'
import { packPath, PackWriter, PACK_BYTES } from './pack'
import { Semaphore } from './semaphore'

/** What became of a chunk: its name, and the bytes that it added to the store. */
export interface Put {
  name: string
  stored: number
}

/** Where content goes. */
export interface Sink {
  put(plain: Uint8Array<ArrayBuffer>, base?: string | null): Promise<Put>
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

  part(): WriterPart {
    let stored = 0
    const failure = () => this.failure
    return {
      put: async (plain, base) => {
        const put = await this.put(plain, base)
        stored += put.stored
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
