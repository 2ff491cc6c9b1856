import { ChunkList, LONG_LIST, type Chunks } from '../../../core/content/chunk-list'
import type pg from 'pg'
import {
  NO_ROWS,
  type ChunkRef,
  type DatabaseManifest,
  type LargeObjectsManifest,
  type Missing,
  type TableManifest,
} from '../../../core/content/manifest'
import { VesselError } from '../../../core/errors'
import { othersOf } from '../../../core/restore/kinds'
import type { StructureEntry } from '../../../core/restore/structure'
import { qualified, quoteIdentifier, thingKey } from '../../../core/restore/sql'
import { isSelectable, pathOf, type Thing } from '../../../core/things/thing'
import type { Sink } from '../../store/writer'
import { connect, translate, withClient, type PostgresAccess } from './connect'
import { copyOut } from './copy-out'
import { describeLimits, describeProperties, describeRoles } from './describe-database'
import { captureLargeObjects } from './large-objects'
import { describeSequences, describeTables, type DescribedTable } from './describe'
import { thingsOf } from './discover'
import { isHeld, lockTogether } from './locks'
import { doubtsOf, movedSince } from './moved'
import { readStructure } from './utilities'

/** The earlier manifest of the same database, to store changed chunks as differences. */
export type Earlier = DatabaseManifest | undefined

/** How long it is tried to get the lock that keeps a table from being dropped. */
const LOCK_PATIENCE_MS = 30_000

/**
 * One database at one moment: exports the snapshot of a transaction, keeps every table from being dropped, and hands
 * the same snapshot to the structure dump and to all readers.
 */
export class DatabaseCapture {
  tables: DescribedTable[] = []
  things: Thing[] = []
  position = ''
  at = ''
  private snapshot = ''
  /** Which transactions the capture sees, as `pg_current_snapshot()` writes it. */
  visible = ''
  readonly missing: Missing[] = []
  /** What was changed while the structure was read, see `DatabaseManifest.moved`. */
  private moved: string[] = []

  private constructor(
    private readonly access: PostgresAccess,
    private readonly database: string,
    private readonly client: pg.Client,
    private readonly signal: AbortSignal,
  ) {}

  /** A capture whose moment is now, or that of a snapshot which is there already. */
  static async open(
    access: PostgresAccess,
    database: string,
    signal: AbortSignal,
    exact: { snapshot: string; position: string } | null = null,
  ): Promise<DatabaseCapture> {
    const capture = await DatabaseCapture.prepare(access, database, signal)
    try {
      await capture.take(exact)
      await capture.look()
      return capture
    } catch (error) {
      await capture.close()
      throw translate(error, access, database)
    }
  }

  /** A capture whose moment is yet to come. */
  static async prepare(access: PostgresAccess, database: string, signal: AbortSignal): Promise<DatabaseCapture> {
    return new DatabaseCapture(access, database, await connect(access, database), signal)
  }

  /** The moment. @param exact a snapshot of its own to look through, with its position in the log */
  async take(exact: { snapshot: string; position: string } | null): Promise<void> {
    const through = exact ? `set transaction snapshot '${exact.snapshot}'; ` : ''
    await this.client.query(`begin isolation level repeatable read read only; ${through}`)
    const { rows } = await this.client.query<{ snapshot: string; position: string; at: Date; visible: string }>(
      `select pg_export_snapshot() as snapshot, now() as at, pg_current_snapshot()::text as visible,
         (case when pg_is_in_recovery() then pg_last_wal_replay_lsn() else pg_current_wal_lsn() end)::text as position`,
    )
    this.snapshot = rows[0]!.snapshot
    this.position = exact?.position ?? rows[0]!.position
    this.at = rows[0]!.at.toISOString()
    this.visible = rows[0]!.visible
  }

  /** Finds what there was at the moment. */
  async look(): Promise<void> {
    this.things = await thingsOf(this.client, this.access.name, this.database)
    this.tables = await describeTables(this.client)
    for (const table of this.tables.filter(({ lost }) => lost.length > 0))
      this.missing.push({
        path: this.pathOf(table),
        reason: `Dropped while it was read, and not part of it: ${table.lost.join(', ')}.`,
        note: true,
      })
  }

  /** Whether a part of a table was dropped while its definition was read. */
  get hasLost(): boolean {
    return this.tables.some(({ lost }) => lost.length > 0)
  }

  pathOf(table: { schema: string; name: string }): string {
    return pathOf(this.access.name, this.database, table.schema, table.name)
  }

  /** Tables as a manifest describes them, before any row. */
  describe(tables: DescribedTable[]): TableManifest[] {
    return tables.map((table) => withoutRows(table, this.pathOf(table)))
  }

  /** Tables among the taken paths that can be read; the others go to `missing`. Locks them against being dropped. */
  async secure(taken: Set<string>): Promise<DescribedTable[]> {
    // The rows of a foreign table are on another server; its structure comes with the others.
    const wanted = this.tables.filter((table) => taken.has(this.pathOf(table)) && table.structure.kind !== 'foreign')
    const readable = wanted.filter((table) => table.readable)
    const failed = await lockTogether(
      this.client,
      readable,
      ({ schema, name }) => `lock table only ${qualified(schema, name)} in access share mode`,
      LOCK_PATIENCE_MS,
    )
    const miss = (table: DescribedTable, reason: string) => this.missing.push({ path: this.pathOf(table), reason })
    for (const table of wanted) if (!table.readable) miss(table, `The role ${this.access.settings.user} may not read it.`)
    for (const [table, error] of failed) miss(table, notLocked(error))
    return readable.filter((table) => !failed.has(table))
  }

  /** The structure of the whole database, through the same snapshot. */
  async structure(): Promise<StructureEntry[]> {
    // The dump takes a lock on each table that it describes, so what can't be locked is left out of it.
    const missing = new Set(this.missing.filter(({ note }) => !note).map(({ path }) => path))
    const without = this.tables
      .filter((table) => !table.readable || missing.has(this.pathOf(table)))
      .map((table) => thingKey(table.schema, table.name))
    const entries = await readStructure(this.access, this.database, this.client, { snapshot: this.snapshot, without, signal: this.signal })
    this.moved = await withClient(this.access, this.database, (client) => movedSince(client, this.visible, entries))
    this.missing.push(...doubtsOf({ entries, moved: this.moved }, this.access.name, this.database))
    return entries
  }

  /** A connection that sees exactly what this capture sees. */
  async reader(): Promise<pg.Client> {
    const client = await connect(this.access, this.database)
    await client.query(`begin isolation level repeatable read read only; set transaction snapshot '${this.snapshot}'`)
    return client
  }

  /** What can't be in a backup of what is taken, or only in part. */
  async limits(taken: Set<string>): Promise<void> {
    for (const limit of await describeLimits(this.client, this.access.name, this.database)) {
      if (taken.has(limit.path) || !isSelectable(limit.path)) this.missing.push(limit)
    }
  }

  largeObjects(
    path: string,
    writer: Sink,
    moved: (rows: number, bytes: number, stored: number) => void,
  ): Promise<LargeObjectsManifest | null> {
    return captureLargeObjects(this.client, path, writer, { signal: this.signal, moved })
  }

  /** Everything else that a manifest holds. */
  async finish(entries: StructureEntry[], tables: TableManifest[], largeObjects: LargeObjectsManifest | null): Promise<DatabaseManifest> {
    // Versions before 15 have no other provider, and 17 names its locale anew.
    const { rows } = await this.client.query<{ encoding: string; collate: string; ctype: string; icuLocale: string | null }>(
      `select pg_encoding_to_char(encoding) as encoding, datcollate as collate, datctype as ctype,
         case to_jsonb(d) ->> 'datlocprovider' when 'i' then coalesce(to_jsonb(d) ->> 'datlocale', to_jsonb(d) ->> 'daticulocale') end as "icuLocale"
       from pg_catalog.pg_database d where datname = current_database()`,
    )
    const { rows: populated } = await this.client.query<{ schema: string; name: string }>(
      `select schemaname as schema, matviewname as name from pg_catalog.pg_matviews where ispopulated`,
    )
    const filled = new Set(populated.map(({ schema, name }) => pathOf(this.access.name, this.database, schema, name)))
    return {
      name: this.database,
      ...rows[0]!,
      position: this.position,
      at: this.at,
      entries,
      tables,
      sequences: await describeSequences(this.client),
      others: othersOf(entries, this.access.name, this.database, filled),
      missing: this.missing,
      ...(this.moved.length > 0 ? { moved: this.moved } : {}),
      properties: await describeProperties(this.client),
      roles: await describeRoles(this.client),
      largeObjects,
    }
  }

  async close(): Promise<void> {
    await this.client.end().catch(() => undefined)
  }
}

function notLocked(error: Error): string {
  if ((error as { code?: string }).code === '42P01') return 'It was dropped or renamed while the backup began.'
  if (isHeld(error)) return `Its lock was not given within ${LOCK_PATIENCE_MS / 1000} s.`
  return `The server would not let it be read: ${error.message}.`
}

/** The statement that reads a table's rows: all columns that are not generated, in order. */
export function copyStatement(table: { schema: string; name: string; columns: string[] }): string {
  const columns = table.columns.map(quoteIdentifier).join(', ')
  return table.columns.length > 0
    ? `copy ${qualified(table.schema, table.name)} (${columns}) to stdout`
    : `copy (select from only ${qualified(table.schema, table.name)}) to stdout`
}

/** A table as a manifest describes it, before any row. */
export function withoutRows(table: DescribedTable, path: string): TableManifest {
  const { schema, name, oid, structure, columns, numbers, fills, shapes, versions, filenode, identityKey, key } = table
  return { path, schema, name, oid, structure, columns, numbers, fills, shapes, versions, filenode, identityKey, key, ...NO_ROWS }
}

/** Reads one table into the store. Partitioned tables have no rows of their own. */
export async function captureTable(
  client: pg.Client,
  table: DescribedTable,
  path: string,
  writer: Sink,
  options: { earlier: Earlier; signal: AbortSignal; moved: (rows: number, bytes: number, stored: number) => void },
): Promise<TableManifest> {
  const base = withoutRows(table, path)
  if (table.structure.kind !== 'table') return base
  const similar = similarTo(options.earlier?.tables.find((candidate) => candidate.path === path)?.chunks ?? [])
  const chunks = new ChunkList()
  const underWay = new Set<Promise<ChunkRef>>()
  let inOrder: Promise<unknown> = Promise.resolve()
  const keyColumn = table.integerKey ? table.columns.indexOf(table.key![0]!) : -1
  try {
    const tally = await copyOut(client, copyStatement(table), { keyColumn, signal: options.signal }, async (chunk) => {
      const { rows, keys, tail } = chunk
      const bytes = chunk.bytes.length
      const put = writer.put(chunk.bytes, similar(tail)).then(({ name, stored }) => {
        options.moved(rows, bytes, stored)
        return { name, rows, bytes, keys: keys && ([String(keys.min), String(keys.max)] as [string, string]), tail }
      })
      underWay.add(put)
      inOrder = Promise.all([put, inOrder]).then(([ref]) => (underWay.delete(put), chunks.push(ref)))
      inOrder.catch(() => undefined)
      await writer.ready()
      // What failed while others were being put stops the reading now, not at the end of the table.
      if (writer.failure) throw writer.failure
    })
    await inOrder
    return { ...base, ...tally, chunks: chunks.length > LONG_LIST ? chunks : [...chunks] }
  } finally {
    await Promise.allSettled(underWay)
  }
}

/** Finds the chunk of an earlier backup that ended with the same row, else the one after the last found. */
function similarTo(chunks: Chunks): (tail: string) => string | null {
  const at = new Map<string, number>()
  for (const [i, { tail }] of chunks.entries()) at.set(tail, i)
  let next = 0
  return (tail) => {
    const found = at.get(tail) ?? next
    next = found + 1
    return chunks.at(found)?.name ?? null
  }
}

/** A source that stopped in the middle, as an error that says what it means for the run. */
export function captureError(error: unknown, access: PostgresAccess, database: string): unknown {
  if (error instanceof VesselError) return error
  return translate(
    error,
    access,
    database,
    'Nothing was changed at the source, and what this run had stored is removed. Earlier points are untouched.',
  )
}
