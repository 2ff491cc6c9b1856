import { sql } from 'kysely'
import type { Artifact } from '../../core/chain/chain'
import { positionOf } from '../../core/chain/position'
import { artifactOf } from '../catalog/lifeline'
import type { EngineContext } from '../context'

export type StoredArtifact = Artifact & { manifest: string[]; storeId: string | null }

/** A place in the log of a member, in one history of its source. */
export type LogPlace = Pick<Artifact, 'member' | 'era' | 'to'>

/** The segments of a member that hold something after one place, up to a position, up to a time, or the next ones. */
export async function segmentsOf(
  engine: EngineContext,
  vesselId: string,
  mark: LogPlace,
  until: { position: string } | { micros: number } | { count: number },
): Promise<StoredArtifact[]> {
  let query = engine.db
    .selectFrom('artifact')
    .selectAll()
    .where('vessel_id', '=', vesselId)
    .where('member', '=', mark.member)
    .where('era', '=', mark.era)
    .where('kind', '=', 'log')
    .where('damaged', '=', false)
    .where(sql<boolean>`position::pg_lsn > ${mark.to}::pg_lsn`)
  if ('position' in until) query = query.where(sql<boolean>`from_position::pg_lsn < ${until.position}::pg_lsn`)
  else if ('micros' in until) query = query.where('from_at', '<=', new Date(Math.ceil(until.micros / 1000)))
  else query = query.limit(until.count)
  const rows = await query.orderBy(sql`from_position::pg_lsn`).execute()
  const segments = rows.map((row) => ({ ...artifactOf(row), manifest: row.manifest, storeId: row.store_id }))
  // What lies behind a hole leads nowhere from here.
  const hole = segments.findIndex(({ from }, i) => (i === 0 ? positionOf(from)! > positionOf(mark.to)! : from !== segments[i - 1]!.to))
  return hole < 0 ? segments : segments.slice(0, hole)
}
