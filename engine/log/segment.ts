import { randomUUID } from 'node:crypto'
import type { LogChunk, LogRelation, ChangeTally } from '../../core/changes/log-text'
import type { LateHole, LogManifest } from '../../core/changes/manifest'
import { committedSurely } from '../catalog/connect'
import type { EngineContext } from '../context'
import { writeJson } from '../store/json'
import type { Store } from '../store/store'
import type { ContentWriter } from '../store/writer'
import { logTaken, recordLostTables } from './breaks'
import { recordLosses, type NewLoss } from './losses'
import { rowsOf } from './recorder'

export interface SegmentOwner {
  vesselId: string
  vesselName: string
  sourceId: string
  member: string
}

export interface FinishedSegment {
  id: string
  manifest: LogManifest
  /** What was found out of moments before it. */
  late: LateHole | null
  rows: number
  bytes: number
  losses: NewLoss[]
}

/**
 * Makes a segment of log durable: its content, its record in the store, then the catalog in one transaction, which
 * also moves the follower on. Only after that the source may be told that it can forget.
 *
 * @returns ids of the losses that it tells of
 */
export async function commitSegment(
  engine: EngineContext,
  store: Store,
  writer: ContentWriter,
  owner: SegmentOwner,
  { id, manifest, late, rows, bytes, losses }: FinishedSegment,
): Promise<string[]> {
  const names = await writeJson(writer, manifest)
  await writer.flush()
  await store.writeSegment({
    format: 1,
    id,
    vessel: { id: owner.vesselId, name: owner.vesselName },
    member: owner.member,
    from: manifest.from,
    to: manifest.to,
    manifest: names,
  })
  let lost: string[] = []
  const commit = engine.db.transaction().execute(async (tx) => {
    await writer.commit(tx)
    await store.segmentCommitted(tx, id)
    const moved = await tx
      .updateTable('follower')
      .set({
        position: manifest.to,
        at: new Date(manifest.toAt),
        tables: JSON.stringify(manifest.followed),
        trouble: null,
        state: 'following',
        ...(manifest.structure ? { structure_names: JSON.stringify(manifest.structure) } : {}),
      })
      .where('vessel_id', '=', owner.vesselId)
      .where('member', '=', owner.member)
      .where('position', '=', manifest.from)
      // After a break that another worker recorded, nothing is added to what broke.
      .where('state', 'in', ['following', 'stalled'])
      .executeTakeFirst()
    if (moved.numUpdatedRows !== 1n) throw logTaken(owner.member)
    await tx
      .insertInto('artifact')
      .values({
        id,
        run_id: id,
        vessel_id: owner.vesselId,
        source_id: owner.sourceId,
        store_id: store.id,
        member: owner.member,
        kind: 'log',
        parent: null,
        from_position: manifest.from,
        from_at: new Date(manifest.fromAt),
        position: manifest.to,
        at: new Date(manifest.toAt),
        era: manifest.era,
        rows,
        bytes,
        stored: writer.stored,
        manifest: JSON.stringify(names),
      })
      .execute()
    await indexSegment(tx, owner, id, manifest)
    await dueForAudit(tx, owner, manifest)
    if (manifest.before)
      await recordLostTables(tx, owner, { before: manifest.before, after: manifest.followed, late, at: new Date(manifest.toAt) })
    lost = await recordLosses(tx, owner, losses, engine.clock.now())
  })
  await committedSurely(commit, () => engine.db.selectFrom('artifact').select('id').where('id', '=', id).executeTakeFirst())
  return lost
}

/** Tables whose structure was changed are audited soon: that is where a log goes wrong if it does. */
async function dueForAudit(tx: EngineContext['db'], owner: SegmentOwner, { steps, toAt }: LogManifest): Promise<void> {
  const oids = new Set((steps ?? []).flatMap((step) => Object.keys(step.followed)))
  if (oids.size === 0) return
  await tx
    .insertInto('audit_due')
    .values([...oids].map((oid) => ({ vessel_id: owner.vesselId, member: owner.member, oid: Number(oid), since: new Date(toAt) })))
    .onConflict((conflict) => conflict.columns(['vessel_id', 'member', 'oid']).doUpdateSet({ since: new Date(toAt) }))
    .execute()
}

/** What the lifeline asks for without reading logs. */
async function indexSegment(tx: EngineContext['db'], owner: SegmentOwner, id: string, manifest: LogManifest): Promise<void> {
  const base = { artifact_id: id, vessel_id: owner.vesselId, member: owner.member }
  const nameOf = (relation: number) => `${manifest.relations[relation]!.schema}.${manifest.relations[relation]!.name}`
  const traces = manifest.trace.map(([second, relation, inserted, updated, deleted, emptied]) => ({
    ...base,
    second: new Date(second * 1000),
    name: nameOf(relation),
    inserted,
    updated,
    deleted,
    emptied,
  }))
  for (let from = 0; from < traces.length; from += 2000)
    await tx
      .insertInto('log_trace')
      .values(traces.slice(from, from + 2000))
      .execute()
  if (manifest.heavy.length > 0) {
    const heavy = manifest.heavy.map(({ xid, position, end, at, by, tallies }) => ({
      ...base,
      xid,
      position,
      end_position: end,
      at: new Date(Math.floor(at / 1000)),
      micros: at,
      application: by?.application ?? null,
      role: by?.user ?? null,
      rows: rowsOf(tallies),
      tables: JSON.stringify(tablesOf(tallies, manifest.relations)),
    }))
    await tx.insertInto('log_heavy').values(heavy).execute()
  }
  if (manifest.changes.length > 0) {
    const changes = manifest.changes.map(({ xid, end, at, tag, statement, objects }) => ({
      ...base,
      xid,
      end_position: end,
      at: new Date(Math.floor(at / 1000)),
      tag,
      statement,
      objects: JSON.stringify(objects),
    }))
    await tx.insertInto('log_structure').values(changes).execute()
  }
}

/**
 * What a transaction did to each table. A table is described anew in the middle of a transaction when somebody analyses
 * it, for instance: it is one table all the same.
 */
export function tablesOf(
  tallies: Record<number, ChangeTally>,
  relations: Pick<LogRelation, 'oid' | 'schema' | 'name'>[],
): { name: string; tally: number[] }[] {
  const tables = new Map<number, { name: string; tally: number[] }>()
  for (const [index, tally] of Object.entries(tallies)) {
    const { oid, schema, name } = relations[Number(index)]!
    const before = tables.get(oid)?.tally
    tables.set(oid, { name: `${schema}.${name}`, tally: tally.map((count, i) => count + (before?.[i] ?? 0)) })
  }
  return [...tables.values()]
}

export const newSegmentId = () => randomUUID()

export const sizeOf = (chunks: LogChunk[]) => chunks.reduce((sum, chunk) => sum + chunk.bytes, 0)
