import type pg from 'pg'
import { pathOf, type Thing, type ThingKind } from '../../../core/things/thing'
import { withClient, type PostgresAccess } from './connect'
import { OURS } from './event-triggers'
import { databasesOf, serverOf } from './probe'
import { sizeUnlessHeld } from './size'

/** Everything that the server holds: databases, schemas, and what lies in them, without what extensions own. */
export async function* discover(access: PostgresAccess): AsyncGenerator<Thing> {
  const { name } = access
  const { server, databases } = await withClient(access, undefined, async (client) => ({
    server: await serverOf(client),
    databases: await databasesOf(client),
  }))
  yield { path: name, kind: 'server', labels: {}, facts: { version: server.version } }
  for (const database of databases) {
    const trouble = database.connectable ? undefined : 'The connecting role may not connect to it.'
    yield { path: pathOf(name, database.name), kind: 'database', labels: {}, facts: { bytes: database.bytes ?? 0, trouble } }
    if (database.connectable) yield* await withClient(access, database.name, (client) => thingsOf(client, name, database.name))
  }
}

interface Row {
  kind: ThingKind
  schema: string | null
  name: string
  owner: string
  comment: string | null
  bytes: string | null
  rows: number | null
  partition_of: string | null
  partitions: number | null
  oid: number | null
  readable: boolean
  foreign: boolean
}

const troubleOf = (kind: ThingKind) =>
  kind === 'large-objects'
    ? 'Large objects can’t be read: grant select on pg_catalog.pg_largeobject to the connecting role.'
    : 'The connecting role may not read it.'

export async function thingsOf(client: pg.Client, source: string, database: string): Promise<Thing[]> {
  const { rows } = await client.query<Row>(THINGS)
  return rows.map((row) => ({
    path: row.schema === null ? pathOf(source, database, row.name) : pathOf(source, database, row.schema, row.name),
    kind: row.kind,
    labels: {},
    facts: {
      owner: row.owner,
      ...(row.comment === null ? {} : { comment: row.comment }),
      ...(row.bytes === null ? {} : { bytes: Number(row.bytes) }),
      ...(row.rows === null || row.rows < 0 ? {} : { rows: row.rows }),
      ...(row.partition_of === null ? {} : { partitionOf: row.partition_of }),
      ...(row.partitions ? { partitions: row.partitions } : {}),
      ...(row.oid === null ? {} : { oid: row.oid }),
      ...(row.readable ? {} : { trouble: troubleOf(row.kind) }),
      ...(row.kind === 'extension' && row.comment !== null ? { trouble: row.comment } : {}),
      ...(row.foreign ? { trouble: 'Its rows are on another server; only its structure is kept.' } : {}),
    },
  }))
}

const USER_SCHEMA = `n.nspname !~ '^pg_' and n.nspname not in ('information_schema', '${OURS}')`
const notOfExtension = (catalog: string, oid: string) =>
  `not exists (select from pg_catalog.pg_depend d where d.classid = '${catalog}'::regclass and d.objid = ${oid} and d.deptype = 'e')`

/** A routine (alias `p` of pg_proc) as the dump's table of contents names it. */
export const ROUTINE_NAME = `p.proname || '(' || coalesce((select string_agg(format_type(a.type, null), ', ' order by a.ord)
      from unnest(p.proargtypes) with ordinality a (type, ord)), case p.prokind when 'a' then '*' else '' end) || ')'`

/** Types that were made from functions, and those that are only announced. */
export const MADE_TYPE = `(t.typtype = 'p' and not t.typisdefined or t.typtype = 'b' and not exists (select from pg_catalog.pg_type e where e.typarray = t.oid))`

const THINGS = `
  select 'schema' as kind, null as schema, n.nspname as name, pg_get_userbyid(n.nspowner) as owner,
    obj_description(n.oid, 'pg_namespace') as comment, null::bigint as bytes, null::float8 as rows,
    null as partition_of, null::int as partitions, null::int as oid, has_schema_privilege(n.oid, 'usage') as readable, false as foreign
  from pg_catalog.pg_namespace n where ${USER_SCHEMA} and ${notOfExtension('pg_catalog.pg_namespace', 'n.oid')}
  union all
  select case c.relkind when 'm' then 'materialized-view' when 'v' then 'view' when 'S' then 'sequence' else 'table' end,
    n.nspname, c.relname, pg_get_userbyid(c.relowner), obj_description(c.oid, 'pg_class'),
    case when c.relkind in ('r', 'm') then ${sizeUnlessHeld('pg_total_relation_size')} end,
    case when c.relkind in ('r', 'm') then case when c.reltuples < 0 then pg_stat_get_live_tuples(c.oid) else c.reltuples end::float8 end,
    (select i.inhparent::regclass::text from pg_catalog.pg_inherits i where i.inhrelid = c.oid and c.relispartition),
    case when c.relkind = 'p' then (select count(*)::int from pg_catalog.pg_inherits i where i.inhparent = c.oid) end,
    case when c.relkind in ('r', 'p', 'f') then c.oid::int end,
    case when c.relkind = 'S' then true
      else has_schema_privilege(n.oid, 'usage') and has_table_privilege(c.oid, 'select') end, c.relkind = 'f'
  from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace
  where c.relkind in ('r', 'p', 'v', 'm', 'S', 'f') and ${USER_SCHEMA} and ${notOfExtension('pg_catalog.pg_class', 'c.oid')}
  union all
  select 'function', n.nspname, ${ROUTINE_NAME},
    pg_get_userbyid(p.proowner), obj_description(p.oid, 'pg_proc'), null, null, null, null, null, true, false
  from pg_catalog.pg_proc p join pg_catalog.pg_namespace n on n.oid = p.pronamespace
  where ${USER_SCHEMA} and ${notOfExtension('pg_catalog.pg_proc', 'p.oid')}
  union all
  select 'type', n.nspname, t.typname, pg_get_userbyid(t.typowner), obj_description(t.oid, 'pg_type'), null, null, null, null, null, true, false
  from pg_catalog.pg_type t join pg_catalog.pg_namespace n on n.oid = t.typnamespace
    left join pg_catalog.pg_class c on c.oid = t.typrelid
  where (t.typtype in ('e', 'd', 'r') or t.typtype = 'c' and c.relkind = 'c' or ${MADE_TYPE}) and ${USER_SCHEMA}
    and ${notOfExtension('pg_catalog.pg_type', 't.oid')}
  union all
  select 'extension', null, e.extname, pg_get_userbyid(e.extowner),
    case when e.extconfig is not null then 'Rows that were added to its own tables are not kept; it makes them anew.' end,
    null, null, null, null, null, true, false
  from pg_catalog.pg_extension e where e.extname <> 'plpgsql'
  union all
  select 'large-objects', null, 'large objects', pg_get_userbyid(max(m.lomowner)), null, null, count(*)::float8, null, null, null,
    has_table_privilege('pg_catalog.pg_largeobject', 'select'), false
  from pg_catalog.pg_largeobject_metadata m having count(*) > 0
  order by 1, 2 nulls first, 3`
