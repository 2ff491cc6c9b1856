import { positionOf } from '../../core/chain/position'
import type { FollowedTables, StructurePiece } from '../../core/changes/manifest'
import { connect, type PostgresAccess } from '../sources/postgres/connect'
import { placeOfServer, slotState } from '../sources/postgres/log/slot'
import type { EngineContext } from '../context'
import { LogBroken, logTaken } from './breaks'

export interface FollowerRow {
  vessel_id: string
  member: string
  source_id: string
  database: string
  slot: string
  publication: string
  structure: 'trigger' | 'compare'
  position: string | null
  at: Date | null
  caught_up_position: string | null
  era: string
  tables: FollowedTables
  structure_names: StructurePiece | null
}

const NEXT = 'A new full begins a new log by itself.'

/**
 * Whether the source is still the one whose log was followed, and still has it.
 *
 * @param row as the catalog had it a while ago
 * @throws LogBroken when the log can't be gone on with
 * @throws VesselError `log_taken` when another worker goes on with it
 */
export async function examine(engine: EngineContext, access: PostgresAccess, row: FollowerRow): Promise<void> {
  try {
    await sameServer(access, row)
    await examineSlot(access, row)
  } catch (error) {
    // A worker whose lock was lost with the catalog may just have gone on: it tells the catalog first, then the source.
    if (error instanceof LogBroken && (await wasMoved(engine, row))) throw logTaken(row.member)
    throw error
  }
}

/** Whether somebody has gone on with the log, or begun it anew, since its row was read. */
async function wasMoved({ db }: EngineContext, row: FollowerRow): Promise<boolean> {
  const now = await db
    .selectFrom('follower')
    .select(['position', 'caught_up_position', 'era', 'state'])
    .where('vessel_id', '=', row.vessel_id)
    .where('member', '=', row.member)
    .executeTakeFirst()
  return (
    now?.position !== row.position || now.caught_up_position !== row.caught_up_position || now.era !== row.era || now.state === 'broken'
  )
}

/**
 * That a source is still the server whose log was followed, and no earlier state of it.
 *
 * @param row as the catalog had it before
 * @throws LogBroken when it is not
 */
export async function sameServer(access: PostgresAccess, row: Pick<FollowerRow, 'database' | 'era' | 'position'>): Promise<void> {
  const place = await placeOfServer(access, row.database)
  const [system, timeline] = row.era.split('/')
  if (system !== place.systemId)
    throw new LogBroken({
      kind: 'source',
      reason: `${access.name} is another server by now: its system identifier has changed.`,
      next: NEXT,
    })
  if (positionOf(place.position)! < positionOf(row.position!)!)
    throw new LogBroken({
      kind: 'position',
      reason: `${access.name} stands at ${place.position}, before ${row.position} where its log was followed to: it was put back to an earlier state.`,
      next: NEXT,
    })
  if (Number(timeline) !== place.timeline)
    throw new LogBroken({
      kind: 'timeline',
      reason: `${access.name} went over from timeline ${timeline} to ${place.timeline}: it was promoted or restored.`,
      next: NEXT,
    })
}

async function examineSlot(access: PostgresAccess, row: FollowerRow): Promise<void> {
  const client = await connect(access, row.database)
  try {
    const slot = await slotState(client, row.slot)
    if (!slot)
      throw new LogBroken({
        kind: 'slot lost',
        reason: `The slot ${row.slot} is gone from ${access.name}: somebody dropped it.`,
        next: NEXT,
      })
    if (slot.lost)
      throw new LogBroken({
        kind: 'slot lost',
        reason: `${access.name} has given up the log that the slot ${row.slot} needs (max_slot_wal_keep_size).`,
        next: NEXT,
      })
    if (positionOf(slot.confirmed)! > positionOf(row.position!)! && !isCaughtUp(row, slot.confirmed))
      throw new LogBroken({
        kind: 'position',
        reason: `The slot ${row.slot} was moved on to ${slot.confirmed} by somebody else; the log from ${row.position} on is lost.`,
        next: NEXT,
      })
  } finally {
    await client.end().catch(() => undefined)
  }
}

/** The source may have been told of stretches in which nothing happened. */
function isCaughtUp({ caught_up_position: caughtUp }: FollowerRow, confirmed: string): boolean {
  return caughtUp !== null && positionOf(confirmed)! <= positionOf(caughtUp)!
}
