import type pg from 'pg'
import { massRemoved } from '../../core/changes/losses'
import type { FollowedTables } from '../../core/changes/manifest'
import { pathOf } from '../../core/things/thing'
import type { LostThing } from '../catalog/log-types'
import type { NewLoss } from './losses'

/** A table as the source's own counters tell of it. */
interface Counted {
  rows: number
  deleted: number
  /** The file that holds its rows: it has another one when it was emptied or written anew. */
  file: number
}

interface Look {
  at: Date
  position: string
  tables: Map<number, Counted>
}

/**
 * Rows that were deleted in numbers from tables whose changes are in no log: by what the source counts, from one look to
 * the next. Who did it, and when in between, nobody tells.
 */
export class UntoldLosses {
  private before: Look | null = null

  constructor(
    private readonly source: string,
    private readonly database: string,
  ) {}

  /** @returns what was lost since the look before; nothing by the first one */
  async look(client: pg.Client, at: Date, followed: FollowedTables): Promise<NewLoss[]> {
    const unfollowed = Object.entries(followed).flatMap(([oid, { since, schema, name }]) =>
      since === null ? [{ oid: Number(oid), path: pathOf(this.source, this.database, schema, name) }] : [],
    )
    if (unfollowed.length === 0) {
      this.before = null
      return []
    }
    const { before } = this
    const now = await readCounters(
      client,
      at,
      unfollowed.map(({ oid }) => oid),
    )
    this.before = now
    if (!before) return []
    const tables = unfollowed.flatMap(({ oid, path }) => lostOf(path, before.tables.get(oid), now.tables.get(oid)))
    if (tables.length === 0) return []
    const untold = { xid: null, by: null, statement: null, went: [] }
    return [{ kind: 'removed', before: before.position, end: now.position, at, after: before.at, tables, ...untold }]
  }
}

/** That fewer live rows are there is an estimate that a vacuum corrects; that rows were deleted is counted even where that was rolled back. */
function lostOf(path: string, before: Counted | undefined, now: Counted | undefined): LostThing[] {
  if (!before || !now) return []
  const isEmptied = now.file !== before.file && now.rows === 0 && before.rows > 0
  const deleted = Math.min(before.rows - now.rows, now.deleted - before.deleted)
  const removed = massRemoved([0, 0, Math.max(0, deleted), isEmptied ? 1 : 0], before.rows)
  return removed ? [{ path, columns: null, rows: removed.rows, isAbout: true, isRemoved: !isEmptied, isEmptied }] : []
}

async function readCounters(client: pg.Client, at: Date, oids: number[]): Promise<Look> {
  // What is counted afterwards was done before, or after, this place: a loss between two looks lies behind the first one's.
  const { rows: where } = await client.query<{ position: string }>(`select pg_current_wal_lsn()::text as position`)
  const { rows } = await client.query<{ oid: number; rows: number; deleted: number; file: number }>(
    `select c.oid::int, s.n_live_tup::float8 as rows, s.n_tup_del::float8 as deleted, c.relfilenode::int as file
     from pg_catalog.pg_class c join pg_catalog.pg_stat_user_tables s on s.relid = c.oid where c.oid = any ($1::oid[])`,
    [oids],
  )
  return { at, position: where[0]!.position, tables: new Map(rows.map(({ oid, ...counted }) => [oid, counted])) }
}
