import { randomUUID } from 'node:crypto'
import { sql } from 'kysely'
import type { FollowedTables, LateHole } from '../../core/changes/manifest'
import { positionOf } from '../../core/chain/position'
import { VesselError } from '../../core/errors'
import type { BreakKind } from '../catalog/log-types'
import type { EngineContext } from '../context'
import { notify } from '../notify'

export interface Break {
  kind: BreakKind
  /** What happened, in a sentence. */
  reason: string
  /** What is done about it, or what the person should do. */
  next: string
}

/** Thrown where a log can't be followed any further. Its reason is recorded, and following ends. */
export class LogBroken extends Error {
  constructor(readonly broken: Break) {
    super(broken.reason)
  }
}

/** Tables that could be followed and can't be any more from a position on: a hole for them alone, until they are read whole. */
export async function recordLostTables(
  db: EngineContext['db'],
  owner: { vesselId: string; member: string },
  { before, after, late, at }: { before: FollowedTables; after: FollowedTables; late: LateHole | null; at: Date },
): Promise<void> {
  const lost = Object.entries(after).flatMap(([oid, now]) => {
    const was = before[Number(oid)]
    const again = now.since !== null && !now.born && was !== undefined && was.since !== now.since
    return again || (now.since === null && was?.since) || late?.tables[Number(oid)] ? [now] : []
  })
  if (lost.length === 0) return
  await db
    .insertInto('chain_break')
    .values({
      id: randomUUID(),
      vessel_id: owner.vesselId,
      member: owner.member,
      kind: 'structure',
      reason: lost.map(({ schema, name, why }) => `${schema}.${name}: ${why ?? 'its structure has changed.'}`).join(' '),
      next: 'A differential reads it whole, which begins by itself where that mends it.',
      tables: JSON.stringify(lost.map(({ schema, name }) => `${schema}.${name}`)),
      holes: JSON.stringify(late?.tables ?? {}),
      from_position: late?.from ?? lost[0]!.since,
      from_at: at,
      to_at: null,
      at,
    })
    .execute()
}

/** A stretch of stored log that is no more, and leads nowhere until the next mark after it. */
export async function recordHole(
  db: EngineContext['db'],
  owner: { vesselId: string; member: string },
  hole: { kind: 'segment' | 'deleted'; reason: string; position: string; from: Date; to: Date; at: Date },
): Promise<void> {
  const next = await db
    .selectFrom('artifact')
    .select('at')
    .where('vessel_id', '=', owner.vesselId)
    .where('member', '=', owner.member)
    .where('kind', '<>', 'log')
    .where('damaged', '=', false)
    .where('at', '>=', hole.to)
    .orderBy('at')
    .limit(1)
    .executeTakeFirst()
  await db
    .insertInto('chain_break')
    .values({
      id: randomUUID(),
      vessel_id: owner.vesselId,
      member: owner.member,
      kind: hole.kind,
      reason: hole.reason,
      next: next ? 'Moments before and after it can be entered.' : 'A new full begins by itself.',
      tables: '[]',
      from_position: hole.position,
      from_at: hole.from,
      to_at: next?.at ?? null,
      at: hole.at,
    })
    .execute()
}

/** Tables whose rows at a position are not known, which was found out after its log had been stored. */
export async function lateHolesOf(db: EngineContext['db'], vesselId: string, member: string, position: string): Promise<LateHole[]> {
  const rows = await db
    .selectFrom('chain_break')
    .select(['from_position', 'holes'])
    .where('vessel_id', '=', vesselId)
    .where('member', '=', member)
    .where(sql<boolean>`holes <> '{}' and from_position::pg_lsn <= ${position}::pg_lsn`)
    .execute()
  return rows.map(({ from_position: from, holes }) => ({ from: from!, tables: holes }))
}

/**
 * Records that the log of a member has a hole from where it stood. It is open until a new full has begun a new log,
 * which the supervisor sees to.
 */
export async function recordBreak(engine: EngineContext, vesselId: string, member: string, broken: Break): Promise<void> {
  const now = engine.clock.now()
  await engine.db.transaction().execute(async (tx) => {
    const row = await tx
      .selectFrom('follower')
      .select(['position', 'at', 'caught_up_at', 'caught_up_position'])
      .where('vessel_id', '=', vesselId)
      .where('member', '=', member)
      .forUpdate()
      .executeTakeFirst()
    const open = await tx
      .selectFrom('chain_break')
      .select('id')
      .where('vessel_id', '=', vesselId)
      .where('member', '=', member)
      .where('to_at', 'is', null)
      .where('kind', '<>', 'structure')
      .executeTakeFirst()
    const held =
      row?.position && row.caught_up_position && row.caught_up_at && positionOf(row.caught_up_position)! >= positionOf(row.position)!
    const from = held && row.caught_up_at! > row.at! ? row.caught_up_at! : (row?.at ?? now)
    // Until then nothing was changed after the last segment, so the chain leads up to there.
    if (held) {
      await tx
        .updateTable('artifact')
        .set({ at: from })
        .where('vessel_id', '=', vesselId)
        .where('member', '=', member)
        .where('kind', '=', 'log')
        .where('position', '=', row.position!)
        .where('at', '<', from)
        .execute()
    }
    if (!open)
      await tx
        .insertInto('chain_break')
        .values({
          id: randomUUID(),
          vessel_id: vesselId,
          member,
          kind: broken.kind,
          reason: broken.reason,
          next: broken.next,
          tables: '[]',
          from_position: row?.position ?? null,
          from_at: from,
          to_at: null,
          at: now,
        })
        .execute()
    const error = new VesselError('log_broken', {
      what: broken.reason,
      touched: 'What was followed before is safe in the store.',
      next: broken.next,
    })
    await tx
      .updateTable('follower')
      .set({ state: 'broken', trouble: JSON.stringify(error.toJSON()), since: now, retained: null, behind: null })
      .where('vessel_id', '=', vesselId)
      .where('member', '=', member)
      .execute()
  })
  await notify(engine.db, { about: 'log', vessel: vesselId, member })
}

export function logTaken(member: string): VesselError {
  return new VesselError('log_taken', {
    what: `The log of ${member} is followed by another worker by now.`,
    touched: 'What this one had read was not used.',
    next: 'Nothing needs to be done.',
  })
}
