import type pg from 'pg'
import { qualified } from '../../../core/restore/sql'
import type { Dependent } from '../../../core/restore/target'

// Which relation or function (class/oid) needs which other, with parts counted as what they are part of: the
// default, constraint, index, trigger or policy of a table is the table, and so is a sequence that a column of it owns.
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
  edge as (
    select coalesce(p.of_class, d.classid) as class, coalesce(p.of, d.objid) as oid,
      case when t.typrelid <> 0 then 'pg_catalog.pg_class'::regclass else d.refclassid end as ref_class,
      case when t.typrelid <> 0 then t.typrelid else coalesce(o.owner, d.refobjid) end as ref
    from pg_catalog.pg_depend d left join part p on p.classid = d.classid and p.objid = d.objid
      left join pg_catalog.pg_type t on d.refclassid = 'pg_catalog.pg_type'::regclass and t.oid = coalesce(
        (select e.typelem from pg_catalog.pg_type e where e.oid = d.refobjid and e.typelem <> 0 and e.typlen = -1), d.refobjid)
      left join owned o on d.refclassid = 'pg_catalog.pg_class'::regclass and o.sequence = d.refobjid
    where d.deptype in ('n', 'a') and d.refclassid in ('pg_catalog.pg_class'::regclass, 'pg_catalog.pg_type'::regclass, 'pg_catalog.pg_proc'::regclass)
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

/**
 * What needs each relation to be as it is, directly or not, by the relation's object id: views, functions over
 * its rows, tables that inherit from it or have a column of its type, partitions that lie on another server. What must be dropped first comes first.
 */
export async function dependentsOf(client: pg.Client): Promise<(relation: number) => Dependent[]> {
  const { rows } = await client.query<Edge>(EDGES)
  const by = new Map<string, Edge[]>()
  for (const edge of rows) {
    const key = `${edge.refClass}/${edge.ref}`
    by.set(key, [...(by.get(key) ?? []), edge])
  }
  return (relation) => {
    const found: Dependent[] = []
    const seen = new Set([`1259/${relation}`])
    const visit = (key: string) => {
      for (const edge of by.get(key) ?? []) {
        const own = `${edge.class}/${edge.oid}`
        if (seen.has(own)) continue
        seen.add(own)
        const kind = KINDS[edge.kind]!
        // What is in a table is not dropped, so what needs that table is not touched either.
        if (kind !== 'table') visit(own)
        found.push({ kind, catalog: edge.class, oid: edge.oid, key: edge.key, words: `${kind.replace('-', ' ')} ${edge.name}` })
      }
    }
    visit(`1259/${relation}`)
    return found
  }
}

/**
 * What has to be dropped and made again with some relations, as it stands at this moment: what was made again meanwhile
 * has another object id than it had when the plan was made.
 */
export async function standingUpon(client: pg.Client, relations: { schema: string; name: string }[]): Promise<Dependent[]> {
  if (relations.length === 0) return []
  const dependents = await dependentsOf(client)
  const found = new Map<string, Dependent>()
  for (const { schema, name } of relations) {
    const { rows } = await client.query<{ oid: number | null }>(`select to_regclass($1)::oid::int as oid`, [qualified(schema, name)])
    for (const one of rows[0]!.oid === null ? [] : dependents(rows[0]!.oid)) {
      // All that needs it comes before it, here or with an earlier one.
      if (!found.has(`${one.catalog}/${one.oid}`)) found.set(`${one.catalog}/${one.oid}`, one)
    }
  }
  return [...found.values()].filter(({ kind }) => kind !== 'table')
}
