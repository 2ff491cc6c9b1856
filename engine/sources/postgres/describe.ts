import type pg from 'pg'
import { grouped } from '../../../core/grouped'
import type { Column, Part, SequenceState, TableStructure } from '../../../core/content/manifest'
import type { Shape } from '../../../core/changes/shapes'
import { copyText } from '../../../core/content/copy-text'
import { thingKey } from '../../../core/restore/sql'
import { OURS } from './event-triggers'
import { IDENTITY_FACTS, IDENTITY_KEY, troubleOf, type Identity } from './log/identity'
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
  /** Of what the text of their values hangs on, see `core/changes/shapes.ts`; absent where all types are the server's own. */
  shapes: (Shape | null)[] | undefined
  /** Another text when a column was altered. */
  versions: string[]
  /** Another one when the table has been written anew. */
  filenode: number
  /** Numbers of the columns by which the log tells its rows apart. */
  identityKey: number[]
  /** Why its rows can't be followed in the log. */
  trouble: string | null
  key: string[] | null
  /** Whether the key is a single column of an integer type. */
  integerKey: boolean
  rows: number
  bytes: number
  readable: boolean
  mayReplace: boolean
  /** Parts that were dropped while the table was read, so that nobody can say how they were made. */
  lost: string[]
}

interface TableRow extends Identity {
  oid: number
  schema: string
  name: string
  relkind: string
  owner: string
  comment: string | null
  row_security: boolean
  forced: boolean
  partition_key: string | null
  parent_schema: string | null
  parent_name: string | null
  bound: string | null
  options: string[]
  access_method: string | null
  inherits: string[] | null
  filenode: number
  /** Null where whole rows are written. */
  identity_key: number[] | null
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
  /** Which transaction wrote this line of the catalog: another one when the column was altered. */
  version: string
  typeid: number
}

/** A type of the user's, as far as the text of its values hangs on it. */
interface TypeRow {
  oid: number
  /** Labels of an enum by the object id of each. */
  labels: Record<string, string> | null
  /** Attributes of a row type: number and type. */
  attributes: [number, number][] | null
  /** Of a domain, an array or a range: the type beneath. */
  beneath: number
}

/** What the catalogs say of some tables, as the queries give it. */
export interface RawTables {
  tables: TableRow[]
  columns: ColumnRow[]
  types: TypeRow[]
  /** Without a definition where it was dropped meanwhile. */
  parts: { oid: number; kind: string; name: string; definition: string | null }[]
  keys: { oid: number; columns: string[]; integer: boolean }[]
  grants: { oid: number; grant: string }[]
}

/**
 * Describes tables (all of the user's, or those with the given names) within the caller's transaction. The
 * session must have an empty search_path, so that definitions name everything in full.
 */
export async function describeTables(client: pg.Client, only?: { schema: string; name: string }[]): Promise<DescribedTable[]> {
  const names = only?.map(({ schema, name }) => thingKey(schema, name)) ?? null
  const { rows } = await client.query<{ oid: number }>(OIDS, [names])
  const oids = [rows.map(({ oid }) => oid)]
  const ask = async <T extends object>(sql: string) => (await client.query<T>(sql, oids)).rows
  return assembleTables({
    tables: await ask<TableRow>(tablesSql(ALL, SIZE)),
    columns: await ask<ColumnRow>(columnsSql(ALL)),
    types: await ask<TypeRow>(typesSql(ALL)),
    parts: await ask<RawTables['parts'][number]>(partsSql(ALL)),
    keys: await ask<RawTables['keys'][number]>(keysSql(ALL)),
    grants: await ask<RawTables['grants'][number]>(grantsSql(ALL)),
  })
}

/**
 * The same as one expression of JSON (`RawTables`), for where only the server can ask, inside of a transaction of
 * somebody else: sizes are left out there. `oids` is an array of object ids.
 */
export function describedAsJson(oids: string): string {
  const list = (sql: string) => `(select coalesce(json_agg(d), '[]') from (${sql}) d)`
  return `json_build_object('tables', ${list(tablesSql(oids, '0'))}, 'columns', ${list(columnsSql(oids))}, 'types', ${list(typesSql(oids))},
    'parts', ${list(partsSql(oids))}, 'keys', ${list(keysSql(oids))}, 'grants', ${list(grantsSql(oids))})`
}

/** Puts together what the queries gave. */
export function assembleTables({ tables, ...raw }: RawTables): DescribedTable[] {
  const columns = group(raw.columns)
  const parts = group(raw.parts.filter(isDefined))
  const lost = group(raw.parts.filter((part) => !isDefined(part)))
  const keys = group(raw.keys)
  const grants = group(raw.grants)
  const shapes = new ShapeReader(raw.types)
  return tables.map((table) => {
    const columnsOfTable = columns.get(table.oid) ?? []
    const key = keys.get(table.oid)?.[0]
    const copied = columnsOfTable.filter((column) => column.generated === '')
    return {
      oid: table.oid,
      schema: table.schema,
      name: table.name,
      structure: structureOf(table, columnsOfTable, parts.get(table.oid) ?? [], grants.get(table.oid) ?? []),
      columns: copied.map(({ name }) => name),
      numbers: copied.map(({ number }) => number),
      fills: copied.map(({ fill }) => copyText(fill)),
      shapes: shapes.ofColumns(copied.map(({ typeid }) => typeid)),
      versions: copied.map(({ version }) => version),
      filenode: table.filenode,
      identityKey: table.identity_key ?? (key?.columns ?? []).map((name) => copied.find((column) => column.name === name)!.number),
      trouble: table.relkind === 'r' ? troubleOf(table.schema, table.name, table).trouble : null,
      key: key?.columns ?? null,
      integerKey: key?.integer ?? false,
      rows: Math.max(0, Math.round(table.rows)),
      bytes: Number(table.bytes),
      readable: table.readable,
      mayReplace: table.may_replace,
      lost: (lost.get(table.oid) ?? []).map(({ kind, name }) => `${kind} ${name}`),
    }
  })
}

const isDefined = <T extends { definition: string | null }>(part: T): part is T & Part => part.definition !== null

const group = <T extends { oid: number }>(rows: T[]) => grouped(rows, ({ oid }) => oid)

/** Reads what the text of values hangs on from the types of the user's. */
class ShapeReader {
  private readonly byOid: Map<number, TypeRow>
  private readonly known = new Map<number, Shape | null>()

  constructor(types: TypeRow[]) {
    this.byOid = new Map(types.map((type) => [type.oid, type]))
  }

  ofColumns(types: number[]): (Shape | null)[] | undefined {
    const shapes = types.map((type) => this.of(type))
    return shapes.some((shape) => shape !== null) ? shapes : undefined
  }

  private of(oid: number): Shape | null {
    const known = this.known.get(oid)
    if (known !== undefined) return known
    // A type that holds itself ends here.
    this.known.set(oid, null)
    const type = this.byOid.get(oid)
    const shape: Shape | null = type?.labels
      ? { labels: type.labels }
      : type?.attributes
        ? { attributes: type.attributes.map(([number, of]) => [number, of, this.of(of)]) }
        : type
          ? this.of(type.beneath)
          : null
    this.known.set(oid, shape)
    return shape
  }
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
    ...(table.access_method === null || table.access_method === 'heap' ? {} : { accessMethod: table.access_method }),
    ...(table.inherits ? { inherits: table.inherits } : {}),
  }
}

/** The parameter of all queries below, where they are asked from outside. */
const ALL = '$1::int[]'

const OIDS = `
  select c.oid::int from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace
  where c.relkind in ('r', 'p', 'f') and n.nspname !~ '^pg_' and n.nspname not in ('information_schema', '${OURS}')
    and not exists (select from pg_catalog.pg_depend d where d.classid = 'pg_catalog.pg_class'::regclass and d.objid = c.oid and d.deptype = 'e')
    and ($1::text[] is null
      or '"' || replace(n.nspname, '"', '""') || '"."' || replace(c.relname, '"', '""') || '"' = any ($1))`

const SIZE = `coalesce(case when c.relkind = 'r' then ${sizeUnlessHeld('pg_table_size')} end, 0)`

const tablesSql = (oids: string, size: string) => `
  select c.oid::int, n.nspname as schema, c.relname as name, c.relkind::text, c.relpersistence::text as persistence,
    pg_get_userbyid(c.relowner) as owner, obj_description(c.oid, 'pg_class') as comment, c.relrowsecurity as row_security,
    c.relforcerowsecurity as forced, c.relreplident::text as identity, pg_get_partkeydef(c.oid) as partition_key,
    pn.nspname as parent_schema, pc.relname as parent_name,
    case when c.relispartition then pg_get_expr(c.relpartbound, c.oid) end as bound,
    coalesce(c.reloptions, '{}') as options, (select m.amname from pg_catalog.pg_am m where m.oid = c.relam) as access_method,
    case when not c.relispartition then (select array_agg('"' || replace(hn.nspname, '"', '""') || '"."' || replace(h.relname, '"', '""') || '"' order by i2.inhseqno)
      from pg_catalog.pg_inherits i2 join pg_catalog.pg_class h on h.oid = i2.inhparent join pg_catalog.pg_namespace hn on hn.oid = h.relnamespace
      where i2.inhrelid = c.oid) end as inherits, greatest(c.reltuples, 0)::float8 as rows,
    c.relfilenode::bigint::float8 as filenode,
    ${size} as bytes,
    has_schema_privilege(n.oid, 'usage') and has_table_privilege(c.oid, 'select') as readable,
    pg_has_role(c.relowner, 'usage') as may_replace,
    ${IDENTITY_KEY} as identity_key,
    ${IDENTITY_FACTS.trim()}
  from pg_catalog.pg_class c
    join pg_catalog.pg_namespace n on n.oid = c.relnamespace
    left join pg_catalog.pg_inherits i on i.inhrelid = c.oid and c.relispartition
    left join pg_catalog.pg_class pc on pc.oid = i.inhparent
    left join pg_catalog.pg_namespace pn on pn.oid = pc.relnamespace
  where c.oid = any (${oids})
  order by n.nspname, c.relname`

const columnsSql = (oids: string) => `
  select a.attrelid::int as oid, a.attname as name, format_type(a.atttypid, a.atttypmod) as type, not a.attnotnull as nullable,
    pg_get_expr(d.adbin, d.adrelid) as default, a.attgenerated::text as generated, a.attidentity::text as identity,
    case when a.attcollation <> t.typcollation then quote_ident(cn.nspname) || '.' || quote_ident(co.collname) end as collation,
    col_description(a.attrelid, a.attnum) as comment,
    case when t.typtype = 'd' then format_type(t.typbasetype, t.typtypmod) end as base, a.attnum::int as number,
    a.xmin::text as version, a.atttypid::int as typeid,
    case when a.atthasmissing then (a.attmissingval::text::text[])[1] end as fill
  from pg_catalog.pg_attribute a
    join pg_catalog.pg_type t on t.oid = a.atttypid
    left join pg_catalog.pg_attrdef d on d.adrelid = a.attrelid and d.adnum = a.attnum
    left join pg_catalog.pg_collation co on co.oid = a.attcollation
    left join pg_catalog.pg_namespace cn on cn.oid = co.collnamespace
  where a.attrelid = any (${oids}) and a.attnum > 0 and not a.attisdropped
  order by a.attrelid, a.attnum`

// Types of the user's that columns have, and all beneath them.
const typesSql = (oids: string) => `
  with recursive used as (
    select distinct a.atttypid as type from pg_catalog.pg_attribute a where a.attrelid = any (${oids}) and a.attnum > 0 and not a.attisdropped
    union
    select n.type from used u join pg_catalog.pg_type t on t.oid = u.type cross join lateral (
      select t.typelem where t.typelem <> 0
      union all select t.typbasetype where t.typbasetype <> 0
      union all select r.rngsubtype from pg_catalog.pg_range r where t.oid in (r.rngtypid, r.rngmultitypid)
      union all select a.atttypid from pg_catalog.pg_attribute a where t.typrelid <> 0 and a.attrelid = t.typrelid and a.attnum > 0 and not a.attisdropped) n (type)
    where t.oid >= 16384)
  select t.oid::int,
    case when t.typtype = 'e' then (select json_object_agg(e.oid::text, e.enumlabel) from pg_catalog.pg_enum e where e.enumtypid = t.oid) end as labels,
    case when t.typtype = 'c' then (select coalesce(json_agg(json_build_array(a.attnum, a.atttypid::bigint) order by a.attnum), '[]')
      from pg_catalog.pg_attribute a where a.attrelid = t.typrelid and a.attnum > 0 and not a.attisdropped) end as attributes,
    greatest(t.typelem::bigint, t.typbasetype::bigint, coalesce((select r.rngsubtype::bigint from pg_catalog.pg_range r where t.oid in (r.rngtypid, r.rngmultitypid)), 0))::int as beneath
  from used u join pg_catalog.pg_type t on t.oid = u.type where t.oid >= 16384 order by 1`

const partsSql = (oids: string) => `
  select conrelid::int as oid, 'constraint' as kind, conname as name, pg_get_constraintdef(oid) as definition
  from pg_catalog.pg_constraint where conrelid = any (${oids}) and contype <> 't'
  union all
  select i.indrelid::int, 'index', c.relname, pg_get_indexdef(i.indexrelid)
    || case when i.indisclustered then ' clustered' else '' end || case when i.indisreplident then ' identity' else '' end
  from pg_catalog.pg_index i join pg_catalog.pg_class c on c.oid = i.indexrelid where i.indrelid = any (${oids})
  union all
  select tgrelid::int, 'trigger', tgname, pg_get_triggerdef(oid) || case tgenabled when 'O' then '' else ' enabled ' || tgenabled::text end
  from pg_catalog.pg_trigger where tgrelid = any (${oids}) and not tgisinternal
  union all
  select polrelid::int, 'policy', polname, concat_ws(' ', case when polpermissive then 'permissive' else 'restrictive' end, polcmd::text,
    (select string_agg(case r when 0 then 'public' else quote_ident(pg_get_userbyid(r)) end, ',' order by r) from unnest(polroles) r),
    pg_get_expr(polqual, polrelid), 'check ' || pg_get_expr(polwithcheck, polrelid))
  from pg_catalog.pg_policy where polrelid = any (${oids})
  union all
  select ev_class::int, 'rule', rulename, pg_get_ruledef(oid) from pg_catalog.pg_rewrite
  where ev_class = any (${oids}) and rulename <> '_RETURN'
  union all
  select stxrelid::int, 'statistics', stxname, pg_get_statisticsobjdef(oid) from pg_catalog.pg_statistic_ext where stxrelid = any (${oids})
  order by 1, 2, 3`

// The primary key, else the shortest valid unique index over columns that can't be null.
const keysSql = (oids: string) => `
  select i.indrelid::int as oid, k.columns, k.count = 1 and k.integer as integer
  from pg_catalog.pg_index i, lateral (
    select array_agg(a.attname::text order by u.ord) as columns, count(*) as count, bool_and(a.attnotnull) as solid,
      bool_and(a.atttypid in ('int2'::regtype, 'int4'::regtype, 'int8'::regtype)) as integer
    from unnest(i.indkey) with ordinality u (num, ord)
      join pg_catalog.pg_attribute a on a.attrelid = i.indrelid and a.attnum = u.num
    where u.ord <= i.indnkeyatts and a.attgenerated = '') k
  where i.indrelid = any (${oids}) and i.indisunique and i.indisvalid and i.indpred is null and i.indexprs is null
    and (i.indisprimary or k.solid) and k.count = i.indnkeyatts
  order by i.indrelid, i.indisprimary desc, k.count, i.indexrelid`

const grantsSql = (oids: string) => `
  select c.oid::int, concat(case acl.grantee when 0 then 'public' else pg_get_userbyid(acl.grantee)::text end, ': ',
    acl.privilege_type, case when acl.is_grantable then ' with grant option' else '' end) as grant
  from pg_catalog.pg_class c, aclexplode(c.relacl) acl
  where c.oid = any (${oids}) and acl.grantee <> c.relowner
  union all
  select c.oid::int, concat(case acl.grantee when 0 then 'public' else pg_get_userbyid(acl.grantee)::text end, ': ',
    acl.privilege_type, ' (', quote_ident(a.attname), ')', case when acl.is_grantable then ' with grant option' else '' end)
  from pg_catalog.pg_class c join pg_catalog.pg_attribute a on a.attrelid = c.oid and not a.attisdropped, aclexplode(a.attacl) acl
  where c.oid = any (${oids}) and acl.grantee <> c.relowner
  order by 1, 2`

/** Positions of all sequences, and the table whose column owns each. */
export async function describeSequences(client: pg.Client): Promise<SequenceState[]> {
  const { rows: sequences } = await client.query<{
    schema: string
    name: string
    down: boolean
    owner_schema: string | null
    owner: string | null
  }>(
    `select n.nspname as schema, c.relname as name, (select q.seqincrement < 0 from pg_catalog.pg_sequence q where q.seqrelid = c.oid) as down, tn.nspname as owner_schema, t.relname as owner
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
      const { schema, name, down, owner_schema: ownerSchema, owner } = some[i]!
      states.push({ schema, name, last, called, ...(down ? { down } : {}), ownedBy: owner === null ? null : [ownerSchema!, owner] })
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
     union all select 2618, oid::int, ev_class::int, null from pg_catalog.pg_rewrite
     union all select 3381, oid::int, stxrelid::int, null from pg_catalog.pg_statistic_ext
     union all select 6106, oid::int, null, prrelid::int from pg_catalog.pg_publication_rel`,
  )
  return new Map(rows.map((row) => [`${row.catalog}/${row.oid}`, { of: row.of, refers: row.refers }]))
}
