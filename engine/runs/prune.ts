import { errorRecord, VesselError } from '../../core/errors'
import { bytesInWords, plural } from '../../core/time/words'
import { openStore } from '../catalog/stores'
import { everyVessel, type Vessel } from '../catalog/vessels'
import { notify } from '../notify'
import { lapse, lapsingOf } from '../retention/lapse'
import { choosePacks, groupsOf, type Chosen } from '../store/choose'
import { Collection, type PackLife } from '../store/collect'
import { isOfContent } from '../store/damage'
import { chunksOfJson } from '../store/json'
import { packPath } from '../store/pack'
import { Repacking } from '../store/repack'
import type { Store } from '../store/store'
import { refuseAhead } from '../store/strangers'
import { discardRun } from '../store/writer'
import type { RunContext } from './context'
import { GivingWay } from './give-way'
import { referredByArtifact } from './referred'
import { artifactsIn, type StoredIn } from './stored-in'

/** How long those are waited for who began to write before packs were condemned. What they still need goes with the next prune. */
const PATIENCE_MS = 10 * 60_000
const LOOK_EVERY_MS = 500
const DROPPED_AT_ONCE = 200
/** So many times the room that is needed to put content together must be free: others write, too. */
const ROOM = 2
/** How many points are told one by one. */
const TOLD = 30

export interface PruneParams {
  /** Only tell what would go. */
  dry: boolean
  /** How long writers are waited for, in milliseconds. */
  patienceMs?: number
}

/**
 * Lets points and logs go whose time is over, and frees the content that nothing rests upon any more, while others write
 * and read. docs/decisions/0036 tells why nothing goes that anybody needs.
 */
export async function prune(run: RunContext, name: string, params: PruneParams): Promise<void> {
  const store = await openStore(run.engine, { name })
  await refuseAhead(store)
  const pruning = new Pruning(run, store, params)
  try {
    await pruning.collection.forget()
    await (params.dry ? pruning.tell() : pruning.go())
  } catch (error) {
    await discardRun(store, run.id).catch((again: unknown) =>
      run.say('warning', `Not all of what was begun could be removed: ${errorRecord(again).what}`),
    )
    throw error
  } finally {
    await pruning.collection.forget()
  }
}

class Pruning {
  readonly collection: Collection
  /** What of each artifact was marked: its manifest, which reading a snapshot that was left at its source replaces. */
  private readonly marked = new Map<string, string>()
  private freed = 0

  private readonly way: GivingWay

  constructor(
    private readonly run: RunContext,
    private readonly store: Store,
    private readonly params: PruneParams,
  ) {
    this.collection = new Collection(run.engine.db, store.id, run.id)
    this.way = new GivingWay(run)
  }

  private get db() {
    return this.run.engine.db
  }

  async go(): Promise<void> {
    const went = await this.step('lapse', 'Points and logs', () => this.lapse())
    await this.step('mark', 'What content is needed', (count) => this.mark(count))
    const chosen = choosePacks(await this.collection.packs())
    await this.condemn(chosen)
    if (chosen.dead.length + chosen.moved.length > 0) {
      if (await this.step('wait', 'Those who write', () => this.waitForWriters())) await this.free()
      else await this.run.say('warning', 'Somebody still writes who began before; what may go is freed by the next prune.')
    }
    await this.run.confirm()
    await this.db.updateTable('store').set({ pruned_at: this.run.engine.clock.now() }).where('id', '=', this.store.id).execute()
    await notify(this.db, { about: 'store' })
    if (this.freed > 0) await this.run.say('info', `${bytesInWords(this.freed)} are free.`)
    await this.run.end(this.run.warnings > 0 ? 'warned' : 'done', { outcome: { ...went, freed: this.freed } })
  }

  /** What would go, as far as it can be known without letting anything go. */
  async tell(): Promise<void> {
    const lapsing = { points: 0, segments: 0 }
    const without = new Set<string>()
    for (const vessel of await this.vessels()) {
      const { points, segments } = await lapsingOf(this.run.engine, vessel)
      for (const { at } of points.slice(0, TOLD)) await this.run.say('info', `${vessel.name}: the point of ${at.toISOString()} would go.`)
      if (points.length > TOLD) await this.run.say('info', `${vessel.name}: and ${plural(points.length - TOLD, 'point')} more.`)
      if (segments.length > 0) await this.run.say('info', `${vessel.name}: ${plural(segments.length, 'segment')} of log would go.`)
      for (const id of [...points.flatMap(({ artifacts }) => artifacts), ...segments.map(({ id }) => id)]) without.add(id)
      lapsing.points += points.length
      lapsing.segments += segments.length
    }
    await this.step('mark', 'What content is needed', (count) => this.mark(count, without))
    const packs = await this.collection.packs()
    const { dead, moved } = choosePacks(packs)
    const freed = [...dead, ...moved].reduce((sum, { bytes, liveBytes }) => sum + bytes - liveBytes, 0)
    await this.run.say('info', `${bytesInWords(freed)} would be free.`)
    await this.run.end('done', { outcome: { dry: true, ...lapsing, freed } })
  }

  private async step<T>(kind: string, title: string, work: (count: (counter: string, by: number) => void) => Promise<T>): Promise<T> {
    return this.run.step(await this.run.plan({ kind, member: this.store.name, title }), work)
  }

  /** Vessels of which something lies in the store. */
  private async vessels(): Promise<Vessel[]> {
    const rows = await this.db.selectFrom('point').select('vessel_id').distinct().where('store_id', '=', this.store.id).execute()
    const here = new Set(rows.map(({ vessel_id: id }) => id))
    return (await everyVessel(this.run.engine)).filter(({ id }) => here.has(id))
  }

  private async lapse(): Promise<{ points: number; segments: number }> {
    const all = { points: 0, segments: 0 }
    for (const vessel of await this.vessels()) {
      await this.run.confirm()
      const gone = { run: this.run.id, by: 'retention', why: 'its time was over' }
      const went = await lapse(this.run.engine, vessel, gone).catch((error: unknown) => {
        // Another store of this vessel may be away; what lies here is pruned all the same.
        if (!(error instanceof VesselError)) throw error
        return { fails: error }
      })
      if ('fails' in went) {
        await this.run.say('warning', `${vessel.name}: nothing of it was let go. ${went.fails.message}`)
        continue
      }
      if ('waits' in went) {
        await this.run.say('info', `${vessel.name}: a ${went.waits} goes on; what may go of it goes with the next prune.`)
        continue
      }
      for (const { at } of went.points.slice(0, TOLD)) await this.run.say('info', `${vessel.name}: the point of ${at.toISOString()} went.`)
      if (went.points.length > TOLD) await this.run.say('info', `${vessel.name}: and ${plural(went.points.length - TOLD, 'point')} more.`)
      if (went.segments.length > 0) await this.run.say('info', `${vessel.name}: ${plural(went.segments.length, 'segment')} of log went.`)
      all.points += went.points.length
      all.segments += went.segments.length
    }
    return all
  }

  /** Marks what is needed by anything that was not marked before. @throws VesselError `content_unknown` */
  private async mark(count: (counter: string, by: number) => void, without: ReadonlySet<string> = new Set()): Promise<void> {
    for (const artifact of await artifactsIn(this.db, this.store.id)) {
      const { id, manifest } = artifact
      if (without.has(id) || this.marked.get(id) === manifest.join()) continue
      this.run.signal.throwIfAborted()
      await this.markArtifact(artifact)
      await this.way.rest()
      this.marked.set(id, manifest.join())
      count('artifacts', 1)
    }
    const followers = await this.db.selectFrom('follower').select('structure_names').where('structure_names', 'is not', null).execute()
    for (const { structure_names: structure } of followers) {
      const { chunks } = structure!
      // Those of vessels that write elsewhere are not here.
      if ((await this.store.index.places(chunks)).size === 0) continue
      const what = 'a structure from which a log is followed'
      await this.collection.mark(await this.unlessDamaged(what, () => chunksOfJson(this.store, chunks, true)))
    }
    await this.collection.markBases()
  }

  private markArtifact(artifact: StoredIn): Promise<void> {
    return this.unlessDamaged(artifact.member, async () => {
      for await (const { names } of referredByArtifact(this.store, artifact, true)) await this.collection.mark(names)
    })
  }

  /** What can't be read may rest upon anything: then nothing is known not to be needed. */
  private async unlessDamaged<T>(what: string, work: () => Promise<T>): Promise<T> {
    try {
      return await work()
    } catch (error) {
      if (!isOfContent(error)) throw error
      throw new VesselError('content_unknown', {
        what: `What ${what} rests upon can’t be read: ${(error as Error).message}`,
        touched: 'Points and logs whose time was over are gone. No content was removed: it is not known what is needed of it.',
        next: 'Verify the store to see which points are hurt. Mend the disk, or delete those points; then prune again.',
        cause: error,
      })
    }
  }

  private async condemn({ dead, moved }: Chosen): Promise<void> {
    await this.db.transaction().execute(async (tx) => {
      await this.store.index.lockContent(tx)
      await this.run.confirm(tx)
      await this.collection.condemn(
        tx,
        [...dead, ...moved].map(({ id }) => id),
      )
    })
  }

  /** Waits for everybody who may have found what is condemned before it was. @returns whether nobody of them writes any more */
  private async waitForWriters(): Promise<boolean> {
    const older = await this.collection.writers()
    const until = Date.now() + (this.params.patienceMs ?? PATIENCE_MS)
    while (older.size > 0 && Date.now() < until) {
      this.run.signal.throwIfAborted()
      await new Promise((resolve) => setTimeout(resolve, LOOK_EVERY_MS))
      const now = await this.collection.writers()
      for (const id of older) if (!now.has(id)) older.delete(id)
    }
    return older.size === 0
  }

  /** What those who were waited for have committed is marked, too; only then anything goes. */
  private async free(): Promise<void> {
    await this.step('mark', 'What content is needed by now', (count) => this.mark(count))
    // What somebody has come to rest upon is condemned no more, unless little of it is alive.
    const chosen = choosePacks((await this.collection.packs()).filter(({ isCondemned }) => isCondemned))
    await this.condemn(chosen)
    // What has nothing alive goes first: a store that is full has no room to put anything together before.
    await this.step('free', 'Content that nothing needs', async (count) => {
      const { dead } = chosen
      for (let from = 0; from < dead.length; from += DROPPED_AT_ONCE) await this.drop(dead.slice(from, from + DROPPED_AT_ONCE), count)
    })
    if (chosen.moved.length > 0) await this.step('repack', 'Content that stays', (count) => this.repack(chosen.moved, count))
  }

  private async drop(packs: PackLife[], count: (counter: string, by: number) => void, also: string | null = null): Promise<void> {
    this.run.signal.throwIfAborted()
    const paths = await this.db.transaction().execute(async (tx) => {
      await this.store.index.lockContent(tx)
      await this.run.confirm(tx)
      if (also) await this.store.index.commit(tx, this.run.id, { written: new Set([also]), referred: new Set() })
      const went = await this.collection.dropCondemned(
        tx,
        packs.map(({ id }) => id),
      )
      const paths = went.map(({ id }) => packPath(id))
      await this.store.index.announced.addAll(paths, this.run.id, tx)
      for (const { bytes } of went) this.freed += bytes
      return paths
    })
    await this.store.remove(paths)
    count('packs', paths.length)
  }

  private async repack(packs: PackLife[], count: (counter: string, by: number) => void): Promise<void> {
    const repacking = new Repacking(this.store, this.run.id, (tx) => this.run.confirm(tx))
    try {
      for (const group of groupsOf(packs)) {
        this.run.signal.throwIfAborted()
        const needed = group.reduce((sum, { liveBytes }) => sum + liveBytes, 0)
        if ((await this.store.backend.space()).free < ROOM * needed) return await this.sayFull()
        const made = await repacking.copy(group, (pack) => this.restingBetween(this.collection.liveIn(pack)))
        await this.drop(group, count, made.id)
        this.freed -= made.bytes
      }
    } catch (error) {
      if (!(error instanceof VesselError) || error.code !== 'store_full') throw error
      await discardRun(this.store, this.run.id)
      await this.sayFull()
    }
  }

  private async *restingBetween<T>(parts: AsyncIterable<T>): AsyncGenerator<T> {
    for await (const part of parts) {
      yield part
      await this.way.rest()
    }
  }

  private sayFull(): Promise<void> {
    const text = `There is no room in ${this.store.name} to put half-empty files together; what nothing needs is gone.`
    return this.run.say('warning', text)
  }
}
