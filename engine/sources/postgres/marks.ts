import type pg from 'pg'

/** Catalogs whose lines make up how a table is, with the column that names the table. */
const OF_TABLE: [catalog: string, table: string, line: string][] = [
  ['pg_class', 'oid', 'x.oid'],
  ['pg_attribute', 'attrelid', 'x.attnum'],
  ['pg_attrdef', 'adrelid', 'x.oid'],
  ['pg_index', 'indrelid', 'x.indexrelid'],
  ['pg_constraint', 'conrelid', 'x.oid'],
  ['pg_trigger', 'tgrelid', 'x.oid'],
  ['pg_rewrite', 'ev_class', 'x.oid'],
  ['pg_policy', 'polrelid', 'x.oid'],
  ['pg_inherits', 'inhrelid', 'x.inhparent'],
  ['pg_inherits', 'inhparent', 'x.inhrelid'],
  ['pg_statistic_ext', 'stxrelid', 'x.oid'],
  ['pg_publication_rel', 'prrelid', 'x.oid'],
]
const LINES = OF_TABLE.map(
  (
    [catalog, table, line],
    i,
  ) => `select x.${table}::oid as of, ${i} as kind, ${line}::text as line, x.xmin::text as written from pg_catalog.${catalog} x
    where x.${table} >= 16384 and ($1::oid[] is null or x.${table} = any($1))${catalog === 'pg_trigger' ? ' and not x.tgisinternal' : ''}`,
).join(' union all ')
const DESCRIBED = `select x.objoid, 99, x.classoid || '/' || x.objsubid, x.xmin::text from pg_catalog.pg_description x
    where x.classoid = 'pg_catalog.pg_class'::regclass and x.objoid >= 16384 and ($1::oid[] is null or x.objoid = any($1))`

/** What tables are made of; it is marked as one, under the number 0. */
const SHARED = [
  `select x.oid, x.xmin, 'pg_type' from pg_catalog.pg_type x where x.typtype <> 'c' and x.typcategory <> 'A'`,
  ...['pg_enum', 'pg_proc', 'pg_collation', 'pg_namespace'].map(
    (catalog) => `select x.oid, x.xmin, '${catalog}' from pg_catalog.${catalog} x`,
  ),
]
const OF_ALL = `select 0::oid, 100, x.catalog || x.oid, x.xmin::text from (${SHARED.join(' union all ')}) x (oid, xmin, catalog) where x.oid >= 16384`

/**
 * A mark for each table of how it is made: it is another one as soon as a line of the catalogs about the table was
 * written, added or removed. Cheaper by far than to read the structure again.
 *
 * @param oids of the tables; of all where there are none
 */
export async function marksOf(client: pg.Client, oids: number[] | null = null): Promise<Map<number, string>> {
  const { rows } = await client.query<{ of: number; mark: string }>(
    `select of::int, md5(string_agg(kind || ' ' || line || ' ' || written, ',' order by kind, line, written)) as mark
     from (${LINES} union all ${DESCRIBED} union all ${OF_ALL}) x (of, kind, line, written) group by of`,
    [oids],
  )
  return new Map(rows.map(({ of, mark }) => [of, mark]))
}
