import { textOf } from '../../core/content/text'
import { sql } from 'kysely'
import { OP, scanLog, type LogChunk, type LogRelation, type TransactionStart } from '../../core/changes/log-text'
import type { LogManifest } from '../../core/changes/manifest'
import { positionOf } from '../../core/chain/position'
import { openStore } from '../catalog/stores'
import type { EngineContext } from '../context'
import { readJson } from '../store/json'
import type { Store } from '../store/store'

/** One change as it stands in the log; rows as COPY text in the columns of the relation. */
export interface LoggedChange {
  member: string
  transaction: TransactionStart
  op: 'insert' | 'update' | 'delete' | 'empty'
  relation: LogRelation
  /** The old row, as much of it as the source wrote. */
  old: string | null
  row: string | null
}

/** What of a chunk is wanted. */
export interface ChangeFilter {
  relation: (relation: LogRelation) => boolean
  transaction: (transaction: TransactionStart) => boolean
}

export interface Segment {
  id: string
  member: string
  store: Store
  log: LogManifest
}

/** Segments of a vessel, the newest first, from a position or a time on backwards. */
export async function* segmentsBackwards(
  engine: EngineContext,
  vesselId: string,
  until: { before?: Date; member?: string },
): AsyncGenerator<Segment> {
  let at = until.before ?? new Date(8.64e15)
  let skip: string | null = null
  // Opening a store reads its header; its segments share one.
  const stores = new Map<string, Store>()
  for (;;) {
    let query = engine.db
      .selectFrom('artifact')
      .select(['id', 'member', 'manifest', 'store_id', 'at', 'from_at'])
      .where('vessel_id', '=', vesselId)
      .where('kind', '=', 'log')
      .where('damaged', '=', false)
      .orderBy('from_at', 'desc')
      .orderBy('id', 'desc')
      .limit(20)
    if (until.member) query = query.where('member', '=', until.member)
    query = skip
      ? query.where(sql<boolean>`(from_at, id) < (${at}::timestamptz, ${skip}::uuid)`)
      : at.getTime() < 8.64e15
        ? query.where('from_at', '<=', at)
        : query
    const rows = await query.execute()
    for (const row of rows) {
      const store = stores.get(row.store_id!) ?? (await openStore(engine, { id: row.store_id! }))
      stores.set(store.id, store)
      yield await segmentOf(store, row)
    }
    const last = rows.at(-1)
    if (!last || rows.length < 20) return
    at = last.from_at
    skip = last.id
  }
}

/** The segment in which a transaction ends. */
export async function segmentAt(engine: EngineContext, vesselId: string, member: string, end: string): Promise<Segment | null> {
  const row = await engine.db
    .selectFrom('artifact')
    .select(['id', 'member', 'manifest', 'store_id'])
    .where('vessel_id', '=', vesselId)
    .where('member', '=', member)
    .where('kind', '=', 'log')
    .where('damaged', '=', false)
    .where(sql<boolean>`from_position::pg_lsn < ${end}::pg_lsn and position::pg_lsn >= ${end}::pg_lsn`)
    .orderBy('at', 'desc')
    .limit(1)
    .executeTakeFirst()
  return row ? segmentOf(await openStore(engine, { id: row.store_id! }), row) : null
}

async function segmentOf(store: Store, { id, member, manifest }: { id: string; member: string; manifest: string[] }): Promise<Segment> {
  return { id, member, store, log: await readJson<LogManifest>(store, manifest) }
}

/** The changes of a chunk that are wanted, in their order. */
export async function changesOf(
  { member, store, log }: Pick<Segment, 'member' | 'store' | 'log'>,
  chunk: LogChunk,
  filter: ChangeFilter,
  limit = Infinity,
): Promise<LoggedChange[]> {
  const wanted = new Set(log.relations.flatMap((relation, i) => (filter.relation(relation) ? [i] : [])))
  if (![...wanted].some((index) => chunk.tallies[index])) return []
  const found: LoggedChange[] = []
  let transaction = chunk.open
  let counts = transaction !== null && filter.transaction(transaction)
  let old: string | null = null
  const bytes = await store.read(chunk.name)
  const add = (op: LoggedChange['op'], index: number, row: string | null, before: string | null) => {
    if (found.length < limit) found.push({ member, transaction: transaction!, op, relation: log.relations[index]!, old: before, row })
  }
  scanLog(bytes, {
    begin: (started) => {
      transaction = started
      counts = filter.transaction(started)
    },
    change: (op, index, from, to) => {
      if (!counts || !wanted.has(index)) return
      const line = textOf(bytes.subarray(from, to))
      if (op === OP.oldKey || op === OP.oldRow) old = line
      else {
        if (op === OP.insert) add('insert', index, line, null)
        else if (op === OP.update) add('update', index, line, old)
        else add('delete', index, null, line)
        old = null
      }
    },
    truncate: (indexes) => {
      if (counts) for (const index of indexes) if (wanted.has(index)) add('empty', index, null, null)
    },
  })
  return found
}

/** Every change of one transaction. */
export async function changesOfTransaction(
  engine: EngineContext,
  vesselId: string,
  member: string,
  at: { position: string; end: string },
  limit = Infinity,
): Promise<{ changes: LoggedChange[]; segment: Segment } | null> {
  const segment = await segmentAt(engine, vesselId, member, at.end)
  if (!segment) return null
  const changes: LoggedChange[] = []
  for (const chunk of segment.log.chunks) {
    if (positionOf(chunk.from)! > positionOf(at.position)! || (positionOf(chunk.to)! < positionOf(at.end)! && chunk.lastAt === 0)) continue
    changes.push(
      ...(await changesOf(
        segment,
        chunk,
        { relation: () => true, transaction: ({ position }) => position === at.position },
        limit - changes.length,
      )),
    )
  }
  return { changes, segment }
}
