import type pg from 'pg'
import type { Column, Part, SequenceState, TableStructure } from '../../../core/content/manifest'
import { copyText } from '../../../core/content/copy-text'
import { thingKey } from '../../../core/restore/sql'
import { sizeUnlessHeld } from './size'

/** A table as the catalog describes it. */
export interface DescribedTable {
  oid: number
  schema: string
  name: string
  structure: TableStructure
  /** Columns that COPY reads and writes, in order. */
  columns: string[]
  /** Their numbers in the catalog, and what rows hold in them that are older than they are, as COPY text. */
  numbers: number[]
  fills: string[]
  /** Another one when the table has been written anew. */
  filenode: number
  key: string[] | null
  /** Whether the key is a single column of an integer type. */
  integerKey: boolean
  rows: number
  bytes: number
  readable: boolean
  mayReplace: boolean
}

interface TableRow {
  oid: number
  schema: string
  name: string
  relkind: string
  persistence: string
  owner: string
  comment: string | null
  row_security: boolean
  forced: boolean
  identity: string
  partition_key: string | null
  parent_schema: string | null
  parent_name: string | null
  bound: string | null
  options: string[]
  inherits: string[] | null
  filenode: number
  rows: number
  bytes: string
  readable: boolean
  may_replace: boolean
}

interface ColumnRow extends Omit<Column, 'generated' | 'identity'> {
  oid: number
  generated: string
  identity: string
  number: number
  fill: string | null
}

/**
 * Describes tables (all of the user's, or those with the given names) within the caller's transaction. The
 * session must have an empty search_path, so that definitions name everything in full.
 */
export async function describeTables(client: pg.Client, only?: { schema: string; name: string }[]): Promise<DescribedTable[]> {
  const names = only?.map(({ schema, name }) => thingKey(schema, name)) ?? null
  const { rows: tables } = await client.query<TableRow>(TABLES, [names])
  const oids = [tables.map((table) => table.oid)]
  const columns = group((await client.query<ColumnRow>(COLUMNS, oids)).rows)
  const parts = group((await client.query<Part & { oid: number; kind: string }>(PARTS, oids)).rows)
  const keys = group((await client.query<{ oid: number; columns: string[]; integer: boolean }>(KEYS, oids)).rows)
  const grants = group((await client.query<{ oid: number; grant: string }>(GRANTS, oids)).rows)
  return tables.map((table) => {
    const own = columns.get(table.oid) ?? []
    const key = keys.get(table.oid)?.[0]
    const copied = own.filter((column) => column.generated === '')
    return {
      oid: table.oid,
      schema: table.schema,
      name: table.name,
      structure: structureOf(table, own, parts.get(table.oid) ?? [], grants.get(table.oid) ?? []),
      columns: copied.map(({ name }) => name),
      numbers: copied.map(({ number }) => number),
      fills: copied.map(({ fill }) => copyText(fill)),
      filenode: table.filenode,
      key: key?.columns ?? null,
      integerKey: key?.integer ?? false,
      rows: Math.max(0, Math.round(table.rows)),
      bytes: Number(table.bytes),
      readable: table.readable,
      mayReplace: table.may_replace,
    }
  })
}

function group<T extends { oid: number }>(rows: T[]): Map<number, T[]> {
  const groups = new Map<number, T[]>()
  for (const row of rows) {
    const list = groups.get(row.oid)
    if (list) list.push(row)
    else groups.set(row.oid, [row])
  }
  return groups
}

function structureOf(
  table: TableRow,
  columns: ColumnRow[],
  parts: (Part & { kind: string })[],
  grants: { grant: string }[],
): TableStructure {
  const of = (kind: string): Part[] => parts.filter((part) => part.kind === kind).map(({ name, definition }) => ({ name, definition }))
  return {
    kind: table.relkind === 'p' ? 'partitioned' : table.relkind === 'f' ? 'foreign' : 'table',
    persistence: table.persistence === 'u' ? 'unlogged' : 'permanent',
    columns: columns.map((column) => ({
      name: column.name,
      type: column.type,
      nullable: column.nullable,
      default: column.default,
      generated: column.generated !== '',
      identity: column.identity === 'a' ? 'always' : column.identity === 'd' ? 'by default' : null,
      collation: column.collation,
      comment: column.comment,
      ...(column.base ? { base: column.base } : {}),
    })),
    constraints: of('constraint'),
    indexes: of('index'),
    triggers: of('trigger'),
    policies: of('policy'),
    rules: of('rule'),
    statistics: of('statistics'),
    owner: table.owner,
    grants: grants.map((row) => row.grant),
    comment: table.comment,
    rowSecurity: table.forced ? 'forced' : table.row_security ? 'on' : 'off',
    replicaIdentity: table.identity,
    partitionKey: table.partition_key,
    partitionOf: table.parent_name === null ? null : thingKey(table.parent_schema!, table.parent_name),
    partitionBound: table.bound,
    options: table.options,
    ...(table.inherits ? { inherits: table.inherits } : {}),
  }
}

const TABLES = `
  select c.oid::int, n.nspname as schema, c.relname as name, c.relkind::text, c.relpersistence::text as persistence,
    pg_get_userbyid(c.relowner) as owner, obj_description(c.oid, 'pg_class') as comment, c.relrowsecurity as row_security,
    c.relforcerowsecurity as forced, c.relreplident::text as identity, pg_get_partkeydef(c.oid) as partition_key,
    pn.nspname as parent_schema, pc.relname as parent_name,
    case when c.relispartition then pg_get_expr(c.relpartbound, c.oid) end as bound,
    coalesce(c.reloptions, '{}') as options,
    case when not c.relispartition then (select array_agg('"' || replace(hn.nspname, '"', '""') || '"."' || replace(h.relname, '"', '""') || '"' order by i2.inhseqno)
      from pg_catalog.pg_inherits i2 join pg_catalog.pg_class h on h.oid = i2.inhparent join pg_catalog.pg_namespace hn on hn.oid = h.relnamespace
      where i2.inhrelid = c.oid) end as inherits, greatest(c.reltuples, 0)::float8 as rows,
    coalesce(pg_relation_filenode(c.oid), 0)::bigint::float8 as filenode,
    coalesce(case when c.relkind = 'r' then ${sizeUnlessHeld('pg_table_size')} end, 0) as bytes,
    has_schema_privilege(n.oid, 'usage') and has_table_privilege(c.oid, 'select') as readable,
    pg_has_role(c.relowner, 'usage') as may_replace
  from pg_catalog.pg_class c
    join pg_catalog.pg_namespace n on n.oid = c.relnamespace
    left join pg_catalog.pg_inherits i on i.inhrelid = c.oid and c.relispartition
    left join pg_catalog.pg_class pc on pc.oid = i.inhparent
    left join pg_catalog.pg_namespace pn on pn.oid = pc.relnamespace
  where c.relkind in ('r', 'p', 'f') and n.nspname !~ '^pg_' and n.nspname <> 'information_schema'
    and not exists (select from pg_catalog.pg_depend d where d.classid = 'pg_catalog.pg_class'::regclass and d.objid = c.oid and d.deptype = 'e')
    and ($1::text[] is null
      or '"' || replace(n.nspname, '"', '""') || '"."' || replace(c.relname, '"', '""') || '"' = any ($1))
  order by n.nspname, c.relname`

const COLUMNS = `
  select a.attrelid::int as oid, a.attname as name, format_type(a.atttypid, a.atttypmod) as type, not a.attnotnull as nullable,
    pg_get_expr(d.adbin, d.adrelid) as default, a.attgenerated::text as generated, a.attidentity::text as identity,
    case when a.attcollation <> t.typcollation then quote_ident(cn.nspname) || '.' || quote_ident(co.collname) end as collation,
    col_description(a.attrelid, a.attnum) as comment,
    case when t.typtype = 'd' then format_type(t.typbasetype, t.typtypmod) end as base, a.attnum::int as number,
    case when a.atthasmissing then (a.attmissingval::text::text[])[1] end as fill
  from pg_catalog.pg_attribute a
    join pg_catalog.pg_type t on t.oid = a.atttypid
    left join pg_catalog.pg_attrdef d on d.adrelid = a.attrelid and d.adnum = a.attnum
    left join pg_catalog.pg_collation co on co.oid = a.attcollation
    left join pg_catalog.pg_namespace cn on cn.oid = co.collnamespace
  where a.attrelid = any ($1::int[]) and a.attnum > 0 and not a.attisdropped
  order by a.attrelid, a.attnum`

const PARTS = `
  select conrelid::int as oid, 'constraint' as kind, conname as name, pg_get_constraintdef(oid) as definition
  from pg_catalog.pg_constraint where conrelid = any ($1::int[]) and contype <> 't'
  union all
  select i.indrelid::int, 'index', c.relname, pg_get_indexdef(i.indexrelid)
    || case when i.indisclustered then ' clustered' else '' end || case when i.indisreplident then ' identity' else '' end
  from pg_catalog.pg_index i join pg_catalog.pg_class c on c.oid = i.indexrelid where i.indrelid = any ($1::int[])
  union all
  select tgrelid::int, 'trigger', tgname, pg_get_triggerdef(oid) || case tgenabled when 'O' then '' else ' enabled ' || tgenabled::text end
  from pg_catalog.pg_trigger where tgrelid = any ($1::int[]) and not tgisinternal
  union all
  select polrelid::int, 'policy', polname, concat_ws(' ', case when polpermissive then 'permissive' else 'restrictive' end, polcmd::text,
    (select string_agg(case r when 0 then 'public' else pg_get_userbyid(r)::text end, ',' order by r) from unnest(polroles) r),
    pg_get_expr(polqual, polrelid), 'check ' || pg_get_expr(polwithcheck, polrelid))
  from pg_catalog.pg_policy where polrelid = any ($1::int[])
  union all
  select ev_class::int, 'rule', rulename, pg_get_ruledef(oid) from pg_catalog.pg_rewrite
  where ev_class = any ($1::int[]) and rulename <> '_RETURN'
  union all
  select stxrelid::int, 'statistics', stxname, pg_get_statisticsobjdef(oid) from pg_catalog.pg_statistic_ext where stxrelid = any ($1::int[])
  order by 1, 2, 3`

// The primary key, else the shortest valid unique index over columns that can't be null.
const KEYS = `
  select i.indrelid::int as oid, k.columns, k.count = 1 and k.integer as integer
  from pg_catalog.pg_index i, lateral (
    select array_agg(a.attname::text order by u.ord) as columns, count(*) as count, bool_and(a.attnotnull) as solid,
      bool_and(a.atttypid in ('int2'::regtype, 'int4'::regtype, 'int8'::regtype)) as integer
    from unnest(i.indkey) with ordinality u (num, ord)
      join pg_catalog.pg_attribute a on a.attrelid = i.indrelid and a.attnum = u.num
    where u.ord <= i.indnkeyatts and a.attgenerated = '') k
  where i.indrelid = any ($1::int[]) and i.indisunique and i.indisvalid and i.indpred is null and i.indexprs is null
    and (i.indisprimary or k.solid) and k.count = i.indnkeyatts
  order by i.indrelid, i.indisprimary desc, k.count, i.indexrelid`

const GRANTS = `
  select c.oid::int, concat(case acl.grantee when 0 then 'public' else pg_get_userbyid(acl.grantee)::text end, ': ',
    acl.privilege_type, case when acl.is_grantable then ' with grant option' else '' end) as grant
  from pg_catalog.pg_class c, aclexplode(c.relacl) acl
  where c.oid = any ($1::int[]) and acl.grantee <> c.relowner
  order by 1, 2`

/** Positions of all sequences, and the table whose column owns each. */
export async function describeSequences(client: pg.Client): Promise<SequenceState[]> {
  const { rows: sequences } = await client.query<{ schema: string; name: string; owner_schema: string | null; owner: string | null }>(
    `select n.nspname as schema, c.relname as name, tn.nspname as owner_schema, t.relname as owner
     from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace
       left join pg_catalog.pg_depend d on d.classid = 'pg_catalog.pg_class'::regclass and d.objid = c.oid and d.deptype in ('a', 'i')
         and d.refclassid = 'pg_catalog.pg_class'::regclass and d.refobjsubid > 0
       left join pg_catalog.pg_class t on t.oid = d.refobjid left join pg_catalog.pg_namespace tn on tn.oid = t.relnamespace
     where n.nspname !~ '^pg_' and n.nspname <> 'information_schema' and has_schema_privilege(n.oid, 'usage')
       -- A case, because the conditions of an AND come in any order and the function refuses what is no sequence.
       and case when c.relkind = 'S' then has_sequence_privilege(c.oid, 'select') else false end
     order by 1, 2`,
  )
  const states: SequenceState[] = []
  for (let from = 0; from < sequences.length; from += SEQUENCES_AT_ONCE) {
    const some = sequences.slice(from, from + SEQUENCES_AT_ONCE)
    const asked = some.map(
      ({ schema, name }, i) => `select ${i} as i, last_value::text as last, is_called as called from ${thingKey(schema, name)}`,
    )
    const { rows } = await client.query<{ i: number; last: string; called: boolean }>(`${asked.join(' union all ')} order by i`)
    for (const { i, last, called } of rows) {
      const { schema, name, owner_schema: ownerSchema, owner } = some[i]!
      states.push({ schema, name, last, called, ownedBy: owner === null ? null : [ownerSchema!, owner] })
    }
  }
  return states
}

const SEQUENCES_AT_ONCE = 200

/** To which relation each constraint, index, trigger and so on belongs, by their object ids. */
export async function describeOwnership(client: pg.Client): Promise<Map<string, { of: number | null; refers: number | null }>> {
  const { rows } = await client.query<{ catalog: number; oid: number; of: number | null; refers: number | null }>(
    `select 2606 as catalog, oid::int, conrelid::int as of, nullif(confrelid, 0)::int as refers from pg_catalog.pg_constraint where conrelid <> 0
     union all select 1259, indexrelid::int, indrelid::int, null from pg_catalog.pg_index
     union all select 2604, oid::int, adrelid::int, null from pg_catalog.pg_attrdef
     union all select 2620, oid::int, tgrelid::int, null from pg_catalog.pg_trigger
     union all select 3256, oid::int, polrelid::int, null from pg_catalog.pg_policy
     union all select 2618, oid::int, ev_class::int, null from pg_catalog.pg_rewrite where rulename <> '_RETURN'
     union all select 3381, oid::int, stxrelid::int, null from pg_catalog.pg_statistic_ext
     union all select 6106, oid::int, null, prrelid::int from pg_catalog.pg_publication_rel`,
  )
  return new Map(rows.map((row) => [`${row.catalog}/${row.oid}`, { of: row.of, refers: row.refers }]))
}
