import { sql } from 'kysely'
import type { Damage, PointRecord } from '../../core/content/manifest'
import { errorRecord, VesselError } from '../../core/errors'
import { plural } from '../../core/time/words'
import { recordHole } from '../log/breaks'
import { notify } from '../notify'
import type { Store } from '../store/store'
import type { RunContext } from './context'
import { away } from './verify-content'
import { referredByArtifact } from './referred'
import { artifactsIn, type StoredIn } from './stored-in'

export interface Found {
  /** How many can't be read, or not all of. */
  points: number
  segments: number
  /** How many were looked at. */
  looked: { points: number; segments: number }
}

/** What a verification is of: points, and what they and the logs consist of. */
export interface Verified {
  points: { id: string; vessel_id: string }[]
  artifacts: StoredIn[]
}

/**
 * What there is in a store to be verified. It is listed before any content is read: what comes later was not read, and
 * nothing is said of it. Points come first, so that all that they consist of is listed with them.
 */
export async function listVerified({ engine: { db } }: RunContext, store: Store): Promise<Verified> {
  const points = await db.selectFrom('point').select(['id', 'vessel_id']).where('store_id', '=', store.id).execute()
  return { points, artifacts: await artifactsIn(db, store.id) }
}

/** Reads the records of points and of segments of log, and looks whether all is there that they rest upon. */
export async function verifyRecords(run: RunContext, store: Store, of: Verified): Promise<Found> {
  const step = await run.plan({ kind: 'verify', member: store.name, title: 'Points and logs' })
  return run.step(step, (count) => new RecordVerification(run, store, count).go(of))
}

class RecordVerification {
  /** What can't be read of each artifact; of differentials with what they build upon. */
  private readonly damages = new Map<string, Damage[]>()

  constructor(
    private readonly run: RunContext,
    private readonly store: Store,
    private readonly count: (counter: string, by: number) => void,
  ) {}

  private get db() {
    return this.run.engine.db
  }

  async go({ points, artifacts }: Verified): Promise<Found> {
    await this.isThere(points.length > 0)
    for (const artifact of artifacts) await this.lookAt(artifact)
    const found: Found = { points: 0, segments: 0, looked: { points: points.length, segments: 0 } }
    for (const point of points) if (await this.isDamaged(point, artifacts)) found.points++
    for (const artifact of artifacts.filter(({ kind }) => kind === 'log')) {
      found.looked.segments++
      if (this.damages.get(artifact.id)!.length > 0 && (await this.isStillThere(artifact.id))) found.segments++
    }
    return found
  }

  private async isStillThere(id: string): Promise<boolean> {
    return (await this.db.selectFrom('artifact').select('id').where('id', '=', id).executeTakeFirst()) !== undefined
  }

  /** @throws VesselError `store_away` when no record of a point is there, which is no damage but a disk that is away */
  private async isThere(isWanted: boolean): Promise<void> {
    const records = await this.store.backend.list('points')
    if (isWanted && records.length === 0) throw away(this.store, 'records of points')
  }

  private async lookAt(artifact: StoredIn): Promise<void> {
    this.run.signal.throwIfAborted()
    const damage = await this.damageOf(artifact)
    const inherited = artifact.parent ? (this.damages.get(artifact.parent) ?? []) : []
    this.damages.set(artifact.id, [...damage, ...inherited])
    const isWhole = artifact.kind === 'full' || artifact.kind === 'synthetic'
    // Of a full what is whole can be restored; nothing leads through a log or a difference that is not.
    const isBroken = damage.length > 0 && (!isWhole || damage.some(({ path }) => path === artifact.member))
    const { numUpdatedRows: changed } = await this.db
      .updateTable('artifact')
      .set({ damaged: isBroken })
      .where('id', '=', artifact.id)
      .where('damaged', '<>', isBroken)
      .executeTakeFirst()
    if (changed > 0n && artifact.kind === 'log') await (isBroken ? this.breakLog(artifact.id) : this.mendLog(artifact.id))
    this.count('artifacts', 1)
  }

  private async damageOf({ id, kind, member, manifest }: StoredIn): Promise<Damage[]> {
    const unreadable = (error: unknown): Damage[] => [{ path: member, reason: `It can’t be read any more: ${errorRecord(error).what}` }]
    try {
      if (kind === 'log') await this.segmentMatches(id, manifest)
      const lost = new Map<string, number>()
      for await (const { path, names } of referredByArtifact(this.store, { kind, member, manifest })) {
        const more = await this.store.index.lost(names)
        if (more > 0) lost.set(path, (lost.get(path) ?? 0) + more)
      }
      return [...lost].map(([path, chunks]) => ({ path, reason: `${plural(chunks, 'chunk')} of it can’t be read any more.` }))
    } catch (error) {
      if (isEnvironment(error)) throw error
      return unreadable(error)
    }
  }

  private async segmentMatches(id: string, manifest: string[]): Promise<void> {
    const record = await this.store.readSegment(id)
    if (record.id !== id || record.manifest.join() !== manifest.join()) throw this.another(`segment ${id}`)
  }

  private async isDamaged(point: { id: string; vessel_id: string }, artifacts: StoredIn[]): Promise<boolean> {
    this.run.signal.throwIfAborted()
    const links = await this.db.selectFrom('point_artifact').select('artifact_id').where('point_id', '=', point.id).execute()
    const ofPoint = artifacts.filter(({ id }) => links.some(({ artifact_id: linked }) => linked === id))
    const damage = [...(await this.recordDamage(point.id, ofPoint)), ...ofPoint.flatMap(({ id }) => this.damages.get(id) ?? [])]
    const isWhole = damage.length === 0
    const { numUpdatedRows: isThere } = await this.db
      .updateTable('point')
      .set({
        damage: isWhole ? null : JSON.stringify(damage),
        ...(isWhole ? { verified_at: this.run.engine.clock.now() } : { verified_at: null }),
      })
      .where('id', '=', point.id)
      .executeTakeFirst()
    this.count('points', 1)
    // Points that are kept for a while are let go; one that went meanwhile is no damage.
    if (isThere === 0n) return false
    for (const { path, reason } of damage) await this.run.say('error', `${path}: ${reason}`)
    await notify(this.db, { about: 'vessel', id: point.vessel_id })
    return !isWhole
  }

  /** The record that lies in the store is sealed, of this point, and of what the catalog has. */
  private async recordDamage(id: string, artifacts: StoredIn[]): Promise<Damage[]> {
    try {
      const record = await this.store.readPoint(id)
      if (!matches(record, id, artifacts)) throw this.another(`point ${id}`)
      return []
    } catch (error) {
      if (isEnvironment(error)) throw error
      return [{ path: 'its record', reason: errorRecord(error).what }]
    }
  }

  private another(what: string): VesselError {
    return new VesselError('record_differs', {
      what: `The record of the ${what} in ${this.store.name} is another one than was written last.`,
      touched: 'Nothing was changed.',
      next: 'Look at the disk: somebody may have put an older copy of it there.',
    })
  }

  /** A segment of log that can't be read is a hole from now on; what leads on from it needs a new full. */
  private async breakLog(id: string): Promise<void> {
    const segment = await this.db.selectFrom('artifact').selectAll().where('id', '=', id).executeTakeFirstOrThrow()
    await recordHole(
      this.db,
      { vesselId: segment.vessel_id, member: segment.member },
      {
        kind: 'segment',
        reason: `A segment of log in ${this.store.name} can’t be read any more: its seal does not hold, or content of it is gone.`,
        position: segment.from_position,
        from: segment.from_at,
        to: segment.at,
        at: this.run.engine.clock.now(),
      },
    )
    await notify(this.db, { about: 'log', vessel: segment.vessel_id, member: segment.member })
  }

  /** It can be read again: what was a hole because of it is none. */
  private async mendLog(id: string): Promise<void> {
    const segment = await this.db.selectFrom('artifact').selectAll().where('id', '=', id).executeTakeFirstOrThrow()
    await this.db
      .deleteFrom('chain_break')
      .where('vessel_id', '=', segment.vessel_id)
      .where('member', '=', segment.member)
      .where('kind', '=', 'segment')
      .where(sql<boolean>`from_position is not distinct from ${segment.from_position}`)
      .execute()
    await notify(this.db, { about: 'log', vessel: segment.vessel_id, member: segment.member })
  }
}

function matches(record: PointRecord, id: string, artifacts: StoredIn[]): boolean {
  const written = new Map(record.members.map(({ artifact, manifest }) => [artifact, manifest.join()]))
  return record.id === id && written.size === artifacts.length && artifacts.every(({ id, manifest }) => written.get(id) === manifest.join())
}

/** The store, or the catalog, could not be looked at: nothing is said of what lies there. */
const isEnvironment = (error: unknown) =>
  error instanceof VesselError
    ? ['store_not_writable', 'store_not_a_folder', 'cancelled', 'claim_lost'].includes(error.code)
    : (error as NodeJS.ErrnoException).code !== 'EIO'
