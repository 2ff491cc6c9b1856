import type pg from 'pg'
import { definitionKey, type TargetState, type TargetTable } from '../../../core/restore/plan'
import { thingKey } from '../../../core/restore/sql'
import { withClient, type PostgresAccess } from './connect'
import { describeTables } from './describe'
import { databasesOf } from './probe'
import { readStructure } from './utilities'

/**
 * What stands in a database now, as a plan has to know it. Definitions of things without rows take a dump of
 * the structure, so they are read only when `withDefinitions` asks for them.
 */
export async function inspectTarget(access: PostgresAccess, database: string, withDefinitions: boolean): Promise<TargetState> {
  const databases = await withClient(access, undefined, databasesOf)
  if (!databases.some(({ name }) => name === database)) return absent(access)
  return withClient(access, database, async (client) => {
    const tables = await describeTables(client)
    const dependents = await dependentsOf(client)
    const state = await namesAt(client)
    const entries = withDefinitions ? await readStructure(access, database, client) : []
    return {
      exists: true,
      ...state,
      definitions: new Map(entries.map((entry) => [definitionKey(entry), entry.sql])),
      tables: new Map(
        tables.map((table): [string, TargetTable] => [
          thingKey(table.schema, table.name),
          {
            structure: table.structure,
            rows: table.rows,
            bytes: table.bytes,
            mayReplace: table.mayReplace,
            dependents: dependents.get(table.oid) ?? [],
          },
        ]),
      ),
    }
  })
}

async function absent(access: PostgresAccess): Promise<TargetState> {
  const roles = await withClient(access, undefined, rolesOf)
  return {
    exists: false,
    tables: new Map(),
    others: new Set(),
    relations: new Set(),
    schemas: new Set(['public']),
    extensions: new Set(),
    roles,
    mayCreate: true,
    definitions: new Map(),
  }
}

async function rolesOf(client: pg.Client): Promise<Set<string>> {
  const { rows } = await client.query<{ name: string }>('select rolname as name from pg_catalog.pg_roles')
  return new Set(rows.map((row) => row.name))
}

async function namesAt(client: pg.Client) {
  const relations = await client.query<{ schema: string; name: string; kind: string }>(
    `select n.nspname as schema, c.relname as name, c.relkind::text as kind
     from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace where n.nspname !~ '^pg_toast'`,
  )
  const others = await client.query<{ schema: string; name: string }>(
    `select n.nspname as schema, p.proname || '(' || coalesce((select string_agg(format_type(a.type, null), ', ' order by a.ord)
        from unnest(p.proargtypes) with ordinality a (type, ord)), '') || ')' as name
     from pg_catalog.pg_proc p join pg_catalog.pg_namespace n on n.oid = p.pronamespace where n.nspname !~ '^pg_'
     union all
     select n.nspname, t.typname from pg_catalog.pg_type t join pg_catalog.pg_namespace n on n.oid = t.typnamespace
     where t.typtype in ('e', 'd', 'r') and n.nspname !~ '^pg_'`,
  )
  const { rows: schemas } = await client.query<{ name: string }>('select nspname as name from pg_catalog.pg_namespace')
  const { rows: extensions } = await client.query<{ name: string }>('select extname as name from pg_catalog.pg_extension')
  const { rows: may } = await client.query<{ create: boolean }>(`select has_database_privilege(current_database(), 'create') as create`)
  const key = ({ schema, name }: { schema: string; name: string }) => thingKey(schema, name)
  return {
    relations: new Set(relations.rows.map(key)),
    others: new Set([...others.rows, ...relations.rows.filter(({ kind }) => 'vmSc'.includes(kind))].map(key)),
    schemas: new Set(schemas.map((row) => row.name)),
    extensions: new Set(extensions.map((row) => row.name)),
    roles: await rolesOf(client),
    mayCreate: may[0]!.create,
  }
}

/** Views, materialized views and functions that need a table to keep its shape, by its object id. */
async function dependentsOf(client: pg.Client): Promise<Map<number, string[]>> {
  const { rows } = await client.query<{ oid: number; dependent: string }>(
    `select distinct d.refobjid::int as oid, case c.relkind when 'm' then 'materialized view ' else 'view ' end || c.oid::regclass as dependent
     from pg_catalog.pg_depend d join pg_catalog.pg_rewrite r on d.classid = 'pg_catalog.pg_rewrite'::regclass and r.oid = d.objid
       join pg_catalog.pg_class c on c.oid = r.ev_class and c.oid <> d.refobjid
     where d.refclassid = 'pg_catalog.pg_class'::regclass
     union
     select t.typrelid::int, 'function ' || d.objid::regprocedure from pg_catalog.pg_depend d
       join pg_catalog.pg_type t on t.oid = d.refobjid and t.typrelid <> 0
     where d.refclassid = 'pg_catalog.pg_type'::regclass and d.classid = 'pg_catalog.pg_proc'::regclass
     order by 1, 2`,
  )
  const dependents = new Map<number, string[]>()
  for (const { oid, dependent } of rows) dependents.set(oid, [...(dependents.get(oid) ?? []), dependent])
  return dependents
}
