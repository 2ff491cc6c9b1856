import { sql } from 'kysely'
import { segmentStays } from '../../core/chain/stays'
import { artifactOf } from '../catalog/lifeline'
import type { CatalogDb } from '../catalog/connect'
import type { LifelinePoint } from '../catalog/lifeline'
import type { Vessel } from '../catalog/vessels'
import type { EngineContext } from '../context'
import { notify } from '../notify'
import { Departure } from './departure'
import { keptOf } from './keeping'

/** What of a vessel may go. */
export interface Lapsing {
  points: LifelinePoint[]
  segments: { id: string; storeId: string; bytes: number }[]
}

/** Who lets something go, and by which run. */
export interface GoneBy {
  /** Null where a person deleted it. */
  run: string | null
  by: string
  why: string
}

/** What of a vessel may go by its retention. */
export async function lapsingOf(engine: EngineContext, vessel: Vessel): Promise<Lapsing> {
  const kept = await keptOf(engine, vessel)
  const points = kept.lanes.points.filter(({ id }) => !kept.stays.points.has(id))
  const rows = await engine.db
    .selectFrom('artifact')
    .selectAll()
    .where('vessel_id', '=', vessel.id)
    .where('kind', '=', 'log')
    .where('at', '<', kept.logFrom)
    .orderBy('at')
    .execute()
  const logs = new Map(kept.stays.logs.map((log) => [log.member, log]))
  const segments = rows.flatMap((row) => {
    const log = logs.get(row.member)
    // Of a member without any point nothing leads to its log yet; or nothing any more.
    const stays = log ? segmentStays(log, artifactOf(row)) : vessel.gone === null
    return row.store_id && !stays ? [{ id: row.id, storeId: row.store_id, bytes: Number(row.stored) }] : []
  })
  return { points, segments }
}

/** What reads points, builds on them, or holds what they are taken from. */
const READS = ['backup', 'restore', 'rehearsal', 'undo', 'fetch', 'audit', 'hold'] as const

/** What of a vessel goes on that reads points or builds on them, so that nothing of it may go; null where nothing does. */
export async function inUse(tx: CatalogDb, vesselId: string): Promise<string | null> {
  const row = await tx
    .selectFrom('run')
    .select('kind')
    .where('vessel_id', '=', vesselId)
    .where('kind', 'in', READS)
    .where('state', 'in', ['waiting', 'running'])
    .limit(1)
    .executeTakeFirst()
  return row?.kind ?? null
}

/**
 * Lets go what of a vessel may go: the catalog forgets it first, then its records leave the stores; its content is left
 * to pruning. Nothing that begins to read a point does so in between: it would have to write its run down first, and
 * that waits for this.
 *
 * @returns what went; or what kept all of it from going
 */
export async function lapse(engine: EngineContext, vessel: Vessel, gone: GoneBy & { run: string }): Promise<Lapsing | { waits: string }> {
  const departure = new Departure(engine, gone.run)
  const went = await engine.db.transaction().execute(async (tx) => {
    await sql`select from vessel where id = ${vessel.id} for update`.execute(tx)
    const waits = await inUse(tx, vessel.id)
    if (waits) return { waits }
    const lapsing = await lapsingOf({ ...engine, db: tx }, vessel)
    const ids = lapsing.points.map(({ id }) => id)
    await forgetPoints(tx, departure, ids, { ...gone, at: engine.clock.now() })
    await forgetSegments(tx, departure, lapsing.segments)
    return lapsing
  })
  if ('waits' in went) return went
  await departure.finish()
  if (went.points.length + went.segments.length > 0) await notify(engine.db, { about: 'vessel', id: vessel.id })
  return went
}

/** Within a transaction: points are no more, and it is written down that they were. */
export async function forgetPoints(tx: CatalogDb, departure: Departure, ids: string[], gone: GoneBy & { at: Date }): Promise<void> {
  if (ids.length === 0) return
  const links = await tx.deleteFrom('point_artifact').where('point_id', 'in', ids).returning('artifact_id').execute()
  const artifacts = [...new Set(links.map(({ artifact_id: id }) => id))]
  await sql`delete from artifact where id = any(${artifacts}::uuid[])
    and not exists (select from point_artifact link where link.artifact_id = artifact.id)`.execute(tx)
  // What was kept before an overwriting never was a point of the lifeline.
  await sql`insert into gone_point (id, vessel_id, at, name, plan, gone_at, run_id, why, by)
    select id, vessel_id, at, name, plan, ${gone.at}::timestamptz, ${gone.run}::uuid, ${gone.why}, ${gone.by}
    from point where id = any(${ids}::uuid[]) and kept_for is null`.execute(tx)
  const points = await tx.deleteFrom('point').where('id', 'in', ids).returning(['id', 'store_id as storeId']).execute()
  await departure.points(tx, points)
}

export async function forgetSegments(tx: CatalogDb, departure: Departure, segments: { id: string; storeId: string }[]): Promise<void> {
  if (segments.length === 0) return
  await sql`delete from artifact where id = any(${segments.map(({ id }) => id)}::uuid[])`.execute(tx)
  await departure.segments(tx, segments)
}
