import { VesselError } from '../../core/errors'
import { plural } from '../../core/time/words'
import { checkHeader } from '../catalog/stores'
import { isPackHeader, PACK_HEADER_BYTES, packPath } from '../store/pack'
import { isOfContent } from '../store/damage'
import type { Store } from '../store/store'
import type { RunContext } from './context'

interface Pack {
  id: string
  bytes: number
}

/** Reads every chunk of a store and marks those that can't be read. Returns how many of them are nowhere else either. */
export async function verifyContent(run: RunContext, store: Store): Promise<number> {
  const packs = await store.index.packs()
  run.expect(
    'bytes',
    packs.reduce((sum, pack) => sum + pack.bytes, 0),
  )
  const step = await run.plan({ kind: 'verify', member: store.name, title: 'Packs' })
  return run.step(step, async (count) => {
    const bad: string[] = []
    const files = await filesOf(store, packs.length)
    for (const pack of packs) bad.push(...(await new PackVerification(run, store, pack, count).go(files)))
    return store.index.lost(bad)
  })
}

/** @throws VesselError `store_away` when not one of its packs is there, which is no damage but a disk that is away */
async function filesOf(store: Store, packs: number): Promise<Map<string, number>> {
  await checkHeader(store)
  const files = new Map((await store.backend.list('packs')).map(({ path, bytes }) => [path, bytes]))
  if (files.size === 0 && packs > 0) throw away(store, 'content')
  return files
}

export const away = (store: Store, what: string) =>
  new VesselError('store_away', {
    what: `None of the ${what} of ${store.name} is at ${store.backend.place}.`,
    touched: 'Nothing was marked: a disk that is away is no damage.',
    next: 'See whether the disk is mounted there, then verify again.',
  })

class PackVerification {
  private readonly bad: Buffer[] = []

  constructor(
    private readonly run: RunContext,
    private readonly store: Store,
    private readonly pack: Pack,
    private readonly count: (counter: string, by: number) => void,
  ) {}

  /** Returns the chunks of it that can't be read. Marks are made for the whole pack at once. */
  async go(files: Map<string, number>): Promise<string[]> {
    const path = packPath(this.pack.id)
    const entries = await this.store.index.entriesOf(this.pack.id)
    if (files.has(path)) {
      await this.look(path, files.get(path)!)
      for (const entry of entries) {
        this.run.signal.throwIfAborted()
        await this.readOne(entry)
        this.count('bytes', entry.length)
        this.count('chunks', 1)
      }
    } else {
      this.bad.push(...entries.map(({ name }) => name))
      await this.run.say('error', `The file ${path} is gone, with ${plural(entries.length, 'chunk')}.`)
    }
    await this.run.confirm()
    await this.store.index.mark(this.pack.id, this.bad)
    return this.bad.map((name) => name.toString('hex'))
  }

  /** A pack that begins or ends as it was not written can be read, but not be indexed anew. */
  private async look(path: string, bytes: number): Promise<void> {
    if (bytes !== this.pack.bytes) await this.run.say('warning', `The file ${path} has ${bytes} bytes; ${this.pack.bytes} were written.`)
    const header = await this.store.backend.read(path, 0, PACK_HEADER_BYTES).catch(() => null)
    if (!header || !isPackHeader(header, this.pack.id)) await this.run.say('warning', `The file ${path} does not begin as a pack does.`)
  }

  private async readOne(entry: Awaited<ReturnType<Store['index']['entriesOf']>>[number]): Promise<void> {
    const name = entry.name.toString('hex')
    try {
      await this.store.readAt(name, entry)
    } catch (error) {
      if (!isOfContent(error) && !(await this.isGone(error))) throw error
      this.bad.push(entry.name)
      await this.run.say('error', (error as Error).message)
    }
  }

  /** Whether just this file went while it was read. A store that is not there any more ends the verification. */
  private async isGone(error: unknown): Promise<boolean> {
    if (!(error instanceof VesselError) || error.code !== 'store_file_missing') return false
    return !(await filesOf(this.store, 1)).has(packPath(this.pack.id))
  }
}
