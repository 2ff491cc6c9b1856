import { sql } from 'kysely'
import { namesOf } from '../../core/things/thing'
import { rowById } from '../catalog/sources'
import { allVessels } from '../catalog/vessels'
import type { EngineContext } from '../context'
import { notify } from '../notify'
import { writeDeleted } from './deleted-places'
import { refused } from './refused'

/** What forgetting a source takes away. */
export interface SourceDeletion {
  /** Vessels whose rules name it; as long as there are any, it is not deleted. */
  takenBy: string[]
  /** What there is of it: things that were found, and points that hold something of it, which stay. */
  things: number
  points: number
}

export async function sourceDeletion(engine: EngineContext, id: string): Promise<SourceDeletion> {
  const { name } = await rowById(engine, id)
  const { rows } = await sql<{ things: number; points: number }>`select
    (select count(*)::int from thing where source_id = ${id} and gone_at is null) as things,
    (select count(distinct point.id)::int from point join point_artifact link on link.point_id = point.id and point.kept_for is null
      join artifact on artifact.id = link.artifact_id
      where artifact.source_id = ${id}) as points`.execute(engine.db)
  return { takenBy: await takenBy(engine, name), ...rows[0]! }
}

async function takenBy(engine: EngineContext, source: string): Promise<string[]> {
  const takes = (await allVessels(engine)).filter(({ definition }) =>
    definition.rules.some(({ act, pattern }) => act === 'take' && namesOf(pattern)[0] === source),
  )
  return takes.map(({ name }) => name)
}

/**
 * Forgets a source, what was found there, and how it is reached. Points that were taken from it stay, and are restored
 * into another one.
 *
 * @throws VesselError `source_missing`, `source_taken`, `source_in_use`
 */
export async function deleteSource(engine: EngineContext, id: string, { reason, by }: { reason: string; by: string }): Promise<void> {
  await engine.db.transaction().execute(async (tx) => {
    const { name } = await rowById({ ...engine, db: tx }, id)
    await sql`select from source where id = ${id} for update`.execute(tx)
    const takes = await takenBy({ ...engine, db: tx }, name)
    if (takes.length > 0)
      throw refused(
        'source_taken',
        `${takes[0]}${takes.length > 1 ? ` and ${takes.length - 1} more` : ''} takes something from it by name.`,
        'Take it out of its rules first, or delete it.',
      )
    const { rows } = await sql<{ what: string }>`
      select 'The log of ' || member || ' is still followed, or being let go.' as what from follower where source_id = ${id}
      union all select 'The scratch copy ' || database || ' is still there.' from scratch where source_id = ${id} and state <> 'gone'
      union all select 'Something is still held at ' || member || '.' from hold where split_part(member, '/', 1) = ${name} and state <> 'released'
      union all select 'A ' || kind || ' that may work with it waits or goes on.' from run
        where state in ('waiting', 'running') and kind in ('restore', 'rehearsal', 'undo', 'fetch', 'backup', 'audit', 'hold') limit 1`.execute(
      tx,
    )
    if (rows[0]) throw refused('source_in_use', rows[0].what, 'Wait until that is over; a scratch copy is dropped under Restores.')
    await writeDeleted(tx, { id, kind: 'source', name, at: engine.clock.now(), by, why: reason })
    await tx.deleteFrom('source').where('id', '=', id).execute()
  })
  await notify(engine.db, { about: 'things' })
}
