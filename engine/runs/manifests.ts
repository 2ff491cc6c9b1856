import type { Manifest, Missing, PointRecord } from '../../core/content/manifest'
import { patiently, type CatalogDb } from '../catalog/connect'
import type { PlannedAs } from '../catalog/plan-types'
import type { EngineContext } from '../context'
import type { Store } from '../store/store'
import { readManifest } from '../store/json'
import type { ContentWriter } from '../store/writer'
import type { RunContext } from './context'

/** The member's manifest in the newest full of a vessel that lies in the store, for differences. */
export async function newestManifest(engine: EngineContext, store: Store, vesselId: string, member: string): Promise<Manifest | undefined> {
  const row = await engine.db
    .selectFrom('artifact')
    .innerJoin('point_artifact', 'point_artifact.artifact_id', 'artifact.id')
    .innerJoin('point', 'point.id', 'point_artifact.point_id')
    .select('artifact.manifest')
    .where('artifact.vessel_id', '=', vesselId)
    .where('artifact.member', '=', member)
    .where('artifact.kind', 'in', ['full', 'synthetic'])
    .where('point.store_id', '=', store.id)
    .where('point.kept_for', 'is', null)
    .orderBy('artifact.at', 'desc')
    .limit(1)
    .executeTakeFirst()
  return row ? readManifest(store, row.manifest) : undefined
}

export interface FinishedMember {
  artifact: string
  sourceId: string
  /** The moment of the source at which it was taken. */
  at: Date
  stored: number
}

/**
 * The end of every run that makes a point: content durable, then the record in the store, then the catalog in
 * one transaction, in which the run is still its worker's and all content is there. What fails before the catalog
 * commits leaves no point behind; after it nothing is undone.
 *
 * @param also what becomes true with the point
 */
export async function commitPoint(
  run: RunContext,
  store: Store,
  writer: ContentWriter,
  record: PointRecord,
  members: FinishedMember[],
  details: {
    keptFor: string | null
    expires?: Date | null
    plan?: PlannedAs | null
    missing: Missing[]
    also?: (tx: CatalogDb) => Promise<void>
  },
): Promise<void> {
  const { engine } = run
  await writer.flush()
  await store.writePoint(record)
  const commit = engine.db.transaction().execute(async (tx) => {
    await writer.commit(tx)
    await store.pointCommitted(tx, record.id)
    await tx
      .insertInto('point')
      .values({
        id: record.id,
        vessel_id: record.vessel.id,
        vessel_version: record.vessel.version,
        run_id: record.run,
        store_id: store.id,
        at: record.at,
        name: record.name,
        comment: record.comment,
        complete: record.complete,
        kept_for: details.keptFor,
        expires_at: details.expires ?? null,
        plan: details.plan ? JSON.stringify(details.plan) : null,
        consistency: record.consistency,
        reached: record.reached ? JSON.stringify(record.reached) : null,
        missing: JSON.stringify(details.missing),
        created_at: engine.clock.now(),
      })
      .execute()
    for (const member of members) {
      const entry = record.members.find(({ artifact }) => artifact === member.artifact)!
      await tx
        .insertInto('artifact')
        .values({
          id: member.artifact,
          run_id: record.run,
          vessel_id: record.vessel.id,
          source_id: member.sourceId,
          member: entry.member,
          kind: entry.kind,
          parent: entry.parent ?? null,
          from_position: entry.from ?? entry.position,
          from_at: member.at,
          at: member.at,
          position: entry.position,
          era: entry.era ?? '',
          store_id: store.id,
          rows: entry.rows,
          bytes: entry.bytes,
          stored: member.stored,
          manifest: JSON.stringify(entry.manifest),
        })
        .execute()
      await tx.insertInto('point_artifact').values({ point_id: record.id, artifact_id: member.artifact }).execute()
    }
    await details.also?.(tx)
  })
  await commit.catch(async (error: unknown) => {
    // While that can't be known its record stays; it was announced, and goes later if nothing came of it.
    if (await patiently(() => store.dropUnlessTaken(record.id)).catch(() => true)) throw error
  })
}
