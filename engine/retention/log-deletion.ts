import { randomUUID } from 'node:crypto'
import { sql } from 'kysely'
import type { DateRange } from '../../core/chain/chain'
import { lostMoments } from '../../core/chain/without'
import { lanesOf, logsOf } from '../catalog/lifeline'
import { vesselBySlug } from '../catalog/vessels'
import type { EngineContext } from '../context'
import { recordHole } from '../log/breaks'
import { notify } from '../notify'
import { Departure } from './departure'
import { forgetSegments, inUse } from './lapse'
import { refused, vesselInUse } from './refused'

/** What deleting a stretch of log takes away. */
export interface LogDeletion {
  /** Segments that hold anything of the stretch; they go whole. */
  segments: { id: string; member: string; storeId: string; from: Date; to: Date; position: string }[]
  stored: number
  /** Where every moment can be entered now, and none then. */
  lost: DateRange[]
}

/** @param stretch both ends belong to it */
export async function logDeletionOf(engine: EngineContext, slug: string, stretch: DateRange): Promise<LogDeletion> {
  const { id } = await vesselBySlug(engine, slug)
  const rows = await engine.db
    .selectFrom('artifact')
    .select(['id', 'member', 'store_id', 'from_at', 'at', 'from_position', 'stored'])
    .where('vessel_id', '=', id)
    .where('kind', '=', 'log')
    .where('at', '>=', stretch.from)
    .where('from_at', '<', stretch.to)
    .orderBy('at')
    .execute()
  const lanes = await lanesOf(engine, id)
  const left = await logsOf(
    engine,
    id,
    rows.map((row) => row.id),
  )
  return {
    segments: rows.flatMap((row) =>
      row.store_id
        ? [{ id: row.id, member: row.member, storeId: row.store_id, from: row.from_at, to: row.at, position: row.from_position }]
        : [],
    ),
    stored: rows.reduce((sum, { stored }) => sum + Number(stored), 0),
    lost: lostMoments({ ...lanes, marks: lanes.artifacts }, { marks: lanes.artifacts, logs: left }),
  }
}

/**
 * Deletes a stretch of log, if it is the one that the person was told of. Points stay; moments after the stretch are
 * entered from the next mark; where there is none, a full begins by itself. What it held is freed by the next prune.
 *
 * @throws VesselError `vessel_in_use`, `log_deletion_changed`
 */
export async function deleteLog(
  engine: EngineContext,
  slug: string,
  stretch: DateRange,
  told: { segments: number; reason: string; by: string },
): Promise<void> {
  const { id } = await vesselBySlug(engine, slug)
  const departure = new Departure(engine, randomUUID())
  await engine.db.transaction().execute(async (tx) => {
    await sql`select from vessel where id = ${id} for update`.execute(tx)
    const running = await inUse(tx, id)
    if (running) throw vesselInUse(running)
    const { segments } = await logDeletionOf({ ...engine, db: tx }, slug, stretch)
    if (segments.length !== told.segments)
      throw refused(
        'log_deletion_changed',
        `The stretch holds ${segments.length} segments by now, not the ${told.segments} that were shown.`,
        'Look at it once more, then decide again.',
      )
    await forgetSegments(tx, departure, segments)
    for (const member of new Set(segments.map((segment) => segment.member))) {
      const of = segments.filter((segment) => segment.member === member)
      await recordHole(
        tx,
        { vesselId: id, member },
        {
          kind: 'deleted',
          reason: `Its log was deleted by ${told.by}: ${told.reason.trim()}`,
          position: of[0]!.position,
          from: of[0]!.from,
          to: of.at(-1)!.to,
          at: engine.clock.now(),
        },
      )
    }
  })
  await departure.finish()
  await notify(engine.db, { about: 'vessel', id })
}
