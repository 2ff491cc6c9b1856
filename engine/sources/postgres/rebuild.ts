import type pg from 'pg'
import { qualified } from '../../../core/restore/sql'
import { tableIds, withParts, type StructureEntry } from '../../../core/restore/structure'
import type { Dependent } from '../../../core/restore/target'

const WORD: Record<Dependent['kind'], string> = {
  view: 'view',
  'materialized-view': 'materialized view',
  function: 'routine',
  'foreign-table': 'foreign table',
  table: 'table',
}

/** Drops what stands upon something, what must go first first; never tables. */
export async function dropDependents(client: pg.Client, dependents: Dependent[]): Promise<void> {
  for (const { kind, key } of dependents) if (kind !== 'table') await client.query(`drop ${WORD[kind]} if exists ${key}`)
}

/**
 * Takes what uses one of the functions off tables that are dropped next, where a table and a function of its
 * rows need each other, as by an index over it.
 */
export async function dropUses(client: pg.Client, dependents: Dependent[], tables: { schema: string; name: string }[]): Promise<void> {
  const functions = dependents.filter(({ kind }) => kind === 'function').map(({ oid }) => oid)
  if (functions.length === 0) return
  const { rows } = await client.query<{ statement: string }>(USES, [functions, tables.map(({ schema, name }) => qualified(schema, name))])
  for (const { statement } of rows) await client.query(statement)
}

const USES = `
  with used as (select distinct d.classid, d.objid from pg_catalog.pg_depend d
    where d.refclassid = 'pg_catalog.pg_proc'::regclass and d.refobjid = any ($1::oid[]))
  select format('alter table %s drop constraint %I', k.conrelid::regclass, k.conname) as statement from used join pg_catalog.pg_constraint k
    on classid = 'pg_catalog.pg_constraint'::regclass and k.oid = objid where k.conrelid = any ($2::regclass[])
  union all select format('drop index %s', i.indexrelid::regclass) from used join pg_catalog.pg_index i
    on classid = 'pg_catalog.pg_class'::regclass and i.indexrelid = objid where i.indrelid = any ($2::regclass[])
  union all select format('alter table %s drop column %I', a.attrelid::regclass, a.attname) from used join pg_catalog.pg_attrdef f
    on classid = 'pg_catalog.pg_attrdef'::regclass and f.oid = objid
    join pg_catalog.pg_attribute a on a.attrelid = f.adrelid and a.attnum = f.adnum where f.adrelid = any ($2::regclass[])
  union all select format('drop trigger %I on %s', t.tgname, t.tgrelid::regclass) from used join pg_catalog.pg_trigger t
    on classid = 'pg_catalog.pg_trigger'::regclass and t.oid = objid where t.tgrelid = any ($2::regclass[]) and not t.tgisinternal
  union all select format('drop policy %I on %s', p.polname, p.polrelid::regclass) from used join pg_catalog.pg_policy p
    on classid = 'pg_catalog.pg_policy'::regclass and p.oid = objid where p.polrelid = any ($2::regclass[])`

/** The entries of a dump that make the dependents again with all that belongs to them, in order. */
export function dependentEntries(entries: StructureEntry[], dependents: Dependent[]): StructureEntry[] {
  const wanted = new Set(dependents.map(({ catalog, oid }) => `${catalog}/${oid}`))
  const isRoot = ({ catalog, oid, type }: StructureEntry) =>
    wanted.has(`${catalog}/${oid}`) && /^(MATERIALIZED VIEW|VIEW|FUNCTION|PROCEDURE|AGGREGATE|FOREIGN TABLE)$/.test(type)
  return withParts(
    entries,
    entries.filter(isRoot).map(({ id }) => id),
    tableIds(entries),
  )
}

/** Which materialized views hold rows now, as `"schema"."name"`. */
export async function filledViews(client: pg.Client): Promise<Set<string>> {
  const { rows } = await client.query<{ key: string }>(
    `select '"' || replace(schemaname, '"', '""') || '"."' || replace(matviewname, '"', '""') || '"' as key from pg_catalog.pg_matviews where ispopulated`,
  )
  return new Set(rows.map((row) => row.key))
}

export async function refreshFilled(
  client: pg.Client,
  dependents: Dependent[],
  filled: Set<string>,
  gone: Set<string> = new Set(),
): Promise<void> {
  // They were dropped in the order in which each needs those behind it.
  for (const { kind, key } of [...dependents].reverse()) {
    if (kind === 'materialized-view' && filled.has(key) && !gone.has(key)) await client.query(`refresh materialized view ${key}`)
  }
}
