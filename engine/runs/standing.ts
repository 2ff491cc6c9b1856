import type pg from 'pg'
import type { StructureEntry } from '../../core/restore/structure'
import type { PostgresAccess } from '../sources/postgres/connect'
import { marksOf } from '../sources/postgres/marks'
import { readStructure } from '../sources/postgres/utilities'

/**
 * The structure of a database while a restore goes through its tables, for what is kept of them. It is read once, and again
 * only when a table that is next was changed since; what became of the tables before it is no matter of that one.
 */
export class StandingStructure {
  private read: { entries: StructureEntry[]; marks: Map<number, string> } | null = null

  constructor(
    private readonly access: PostgresAccess,
    private readonly database: string,
    private readonly signal: AbortSignal,
  ) {}

  /** As it is now, whatever was read before. */
  async now(client: pg.Client): Promise<StructureEntry[]> {
    // Before it is read: what is changed meanwhile has another mark afterwards.
    const marks = await marksOf(client)
    const entries = await readStructure(this.access, this.database, client, { signal: this.signal })
    this.read = { entries, marks }
    return entries
  }

  /** As it is now for these tables. */
  async ofTables(client: pg.Client, tables: { schema: string; name: string }[]): Promise<StructureEntry[]> {
    if (this.read === null) return this.now(client)
    const { rows } = await client.query<{ oid: number }>(
      `select c.oid::int from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace
       join unnest($1::text[], $2::text[]) t (schema, name) on n.nspname = t.schema and c.relname = t.name`,
      [tables.map(({ schema }) => schema), tables.map(({ name }) => name)],
    )
    const { marks } = this.read
    const fresh = await marksOf(
      client,
      rows.map(({ oid }) => oid),
    )
    return [...fresh].every(([oid, mark]) => marks.get(oid) === mark) ? this.read.entries : this.now(client)
  }
}
