import type pg from 'pg'
import { qualified, thingKey } from '../../../core/restore/sql'
import { CATALOG } from '../../../core/restore/structure'
import type { Dependent, TypeUses } from '../../../core/restore/target'

// Which relation or function (class/oid) needs which other, with an array or a multirange counted as what it is made of,
// without the functions that come and go with a range, and with parts counted as what they are part of: the default,
// constraint, index, trigger or policy of a table is the table, and so is a sequence that a column of it owns.
const EDGES = `
  with part as (
    select 'pg_catalog.pg_rewrite'::regclass as classid, r.oid as objid, 'pg_catalog.pg_class'::regclass as of_class, r.ev_class as of from pg_catalog.pg_rewrite r
    union all select 'pg_catalog.pg_attrdef'::regclass, d.oid, 'pg_catalog.pg_class'::regclass, d.adrelid from pg_catalog.pg_attrdef d
    union all select 'pg_catalog.pg_constraint'::regclass, k.oid, 'pg_catalog.pg_class'::regclass, k.conrelid from pg_catalog.pg_constraint k where k.conrelid <> 0 and k.contype <> 'f'
    union all select 'pg_catalog.pg_trigger'::regclass, t.oid, 'pg_catalog.pg_class'::regclass, t.tgrelid from pg_catalog.pg_trigger t where not t.tgisinternal
    union all select 'pg_catalog.pg_policy'::regclass, p.oid, 'pg_catalog.pg_class'::regclass, p.polrelid from pg_catalog.pg_policy p
    union all select 'pg_catalog.pg_class'::regclass, i.indexrelid, 'pg_catalog.pg_class'::regclass, i.indrelid from pg_catalog.pg_index i),
  owned as (
    select d.objid as sequence, d.refobjid as owner from pg_catalog.pg_depend d join pg_catalog.pg_class s on s.oid = d.objid and s.relkind = 'S'
    where d.classid = 'pg_catalog.pg_class'::regclass and d.refclassid = 'pg_catalog.pg_class'::regclass and d.deptype in ('a', 'i') and d.refobjsubid > 0),
  made_of as (
    select t.oid, coalesce(r.rngtypid, e.oid, t.oid) as type from pg_catalog.pg_type t
      left join pg_catalog.pg_type e on e.oid = t.typelem and t.typlen = -1
      left join pg_catalog.pg_range r on r.rngmultitypid = coalesce(e.oid, t.oid)),
  edge as (
    select coalesce(p.of_class, d.classid) as class, coalesce(p.of, d.objid) as oid,
      case when t.typrelid <> 0 then 'pg_catalog.pg_class'::regclass else d.refclassid end as ref_class,
      case when t.typrelid <> 0 then t.typrelid else coalesce(t.oid, o.owner, d.refobjid) end as ref
    from pg_catalog.pg_depend d left join part p on p.classid = d.classid and p.objid = d.objid
      left join made_of m on d.refclassid = 'pg_catalog.pg_type'::regclass and m.oid = d.refobjid
      left join pg_catalog.pg_type t on t.oid = m.type
      left join owned o on d.refclassid = 'pg_catalog.pg_class'::regclass and o.sequence = d.refobjid
    where d.deptype in ('n', 'a') and d.refclassid in ('pg_catalog.pg_class'::regclass, 'pg_catalog.pg_type'::regclass, 'pg_catalog.pg_proc'::regclass)
      and not exists (select from pg_catalog.pg_depend i where i.classid = 'pg_catalog.pg_proc'::regclass and (i.classid, i.objid) = (d.classid, d.objid) and i.deptype = 'i')
    union
    select 'pg_catalog.pg_class'::regclass, i.inhrelid, 'pg_catalog.pg_class'::regclass, i.inhparent
    from pg_catalog.pg_inherits i join pg_catalog.pg_class c on c.oid = i.inhrelid and (not c.relispartition or c.relkind = 'f'))
  select distinct e.class::oid::int as class, e.oid::int, e.ref_class::oid::int as "refClass", e.ref::int,
    case when e.class = 'pg_catalog.pg_proc'::regclass then 'routine' else c.relkind::text end as kind,
    case when e.class = 'pg_catalog.pg_proc'::regclass then e.oid::regprocedure::text
      else '"' || replace(n.nspname, '"', '""') || '"."' || replace(c.relname, '"', '""') || '"' end as key,
    case when e.class = 'pg_catalog.pg_proc'::regclass then e.oid::regprocedure::text else e.oid::regclass::text end as name
  from edge e left join pg_catalog.pg_class c on e.class = 'pg_catalog.pg_class'::regclass and c.oid = e.oid
    left join pg_catalog.pg_namespace n on n.oid = c.relnamespace
  where (e.class, e.oid) <> (e.ref_class, e.ref) and e.oid >= 16384
    and (e.class = 'pg_catalog.pg_proc'::regclass or c.relkind in ('v', 'm', 'r', 'p', 'f'))
  order by 1, 2`

interface Edge {
  class: number
  oid: number
  refClass: number
  ref: number
  kind: string
  key: string
  name: string
}

const KINDS: Record<string, Dependent['kind']> = {
  v: 'view',
  m: 'materialized-view',
  routine: 'function',
  f: 'foreign-table',
  r: 'table',
  p: 'table',
}

/** Finds what needs something to be as it is, directly or not. What must be dropped first comes first. */
export interface Needing {
  /** Views, functions over its rows, tables that inherit from it or have a column of its type, partitions that lie on another server. */
  relation(oid: number): Dependent[]
  /** Of a type: the tables that have it, and views and functions. */
  type(oid: number): Dependent[]
}

export async function dependentsOf(client: pg.Client): Promise<Needing> {
  const { rows } = await client.query<Edge>(EDGES)
  const by = new Map<string, Edge[]>()
  for (const edge of rows) {
    const key = `${edge.refClass}/${edge.ref}`
    by.set(key, [...(by.get(key) ?? []), edge])
  }
  const needing = (start: string) => {
    const found: Dependent[] = []
    const seen = new Set([start])
    const visit = (key: string) => {
      for (const edge of by.get(key) ?? []) {
        const address = `${edge.class}/${edge.oid}`
        if (seen.has(address)) continue
        seen.add(address)
        const kind = KINDS[edge.kind]!
        // What is in a table is not dropped, so what needs that table is not touched either.
        if (kind !== 'table') visit(address)
        found.push({ kind, catalog: edge.class, oid: edge.oid, key: edge.key, words: `${kind.replace('-', ' ')} ${edge.name}` })
      }
    }
    visit(start)
    return found
  }
  return { relation: (oid) => needing(`${CATALOG.relation}/${oid}`), type: (oid) => needing(`${CATALOG.type}/${oid}`) }
}

// What needs a type and is neither in a table nor a view or a function, with its array and its multirange counted as
// itself, and what is of a row type as the type.
const TYPES = `
  select n.nspname as schema, t.typname as name, t.oid::int as oid, t.typrelid::int as relation, array(
    select distinct jsonb_build_object('words', pg_catalog.pg_describe_object(d.classid, d.objid, 0),
      'key', case when c.relkind = 'c' then 'pg_catalog.pg_type'::regclass::oid || '/' || c.reltype else d.classid || '/' || d.objid end)
    from pg_catalog.pg_depend d
      left join pg_catalog.pg_class c on d.classid = 'pg_catalog.pg_class'::regclass and c.oid = d.objid
      left join pg_catalog.pg_constraint k on d.classid = 'pg_catalog.pg_constraint'::regclass and k.oid = d.objid
    where d.refclassid = 'pg_catalog.pg_type'::regclass and d.refobjid in (t.oid, t.typarray, r.rngmultitypid, many.typarray) and d.deptype in ('n', 'a')
      and d.classid not in ('pg_catalog.pg_proc'::regclass, 'pg_catalog.pg_rewrite'::regclass, 'pg_catalog.pg_attrdef'::regclass, 'pg_catalog.pg_trigger'::regclass, 'pg_catalog.pg_policy'::regclass)
      and coalesce(c.relkind not in ('r', 'p', 'v', 'm', 'f', 'i', 'I'), true) and coalesce(k.conrelid = 0 and k.contypid <> t.oid, true)) as others
  from pg_catalog.pg_type t join pg_catalog.pg_namespace n on n.oid = t.typnamespace
    left join pg_catalog.pg_class own on own.oid = t.typrelid
    left join pg_catalog.pg_range r on r.rngtypid = t.oid left join pg_catalog.pg_type many on many.oid = r.rngmultitypid
  where (t.typtype in ('e', 'd', 'r') or t.typtype = 'c' and own.relkind = 'c') and t.oid >= 16384 and pg_catalog.pg_has_role(t.typowner, 'usage')`

/** Enums, domains, ranges and row types that may be dropped, with what has them, by `thingKey`. */
export async function typesInUse(client: pg.Client, needing: Needing): Promise<Map<string, TypeUses>> {
  type Row = { schema: string; name: string; oid: number; relation: number; others: TypeUses['others'] }
  const { rows } = await client.query<Row>(TYPES)
  return new Map(
    rows.map(({ schema, name, oid, relation, others }) => [
      thingKey(schema, name),
      { dependents: relation > 0 ? needing.relation(relation) : needing.type(oid), others },
    ]),
  )
}

/**
 * What has to be dropped and made again with some relations and types, as it stands at this moment: what was made again
 * meanwhile has another object id than it had when the plan was made.
 */
export async function standingUpon(client: pg.Client, places: { schema: string; name: string }[]): Promise<Dependent[]> {
  if (places.length === 0) return []
  const needing = await dependentsOf(client)
  const found = new Map<string, Dependent>()
  for (const { schema, name } of places) {
    const { rows } = await client.query<{ relation: number | null; type: number | null }>(
      `select to_regclass($1)::oid::int as relation, to_regtype($1)::oid::int as type`,
      [qualified(schema, name)],
    )
    // What has a row type is known by the relation that it is made of.
    const { relation, type } = rows[0]!
    for (const needer of relation !== null ? needing.relation(relation) : type !== null ? needing.type(type) : []) {
      // All that needs it comes before it, here or with an earlier one.
      if (!found.has(`${needer.catalog}/${needer.oid}`)) found.set(`${needer.catalog}/${needer.oid}`, needer)
    }
  }
  return [...found.values()].filter(({ kind }) => kind !== 'table')
}
