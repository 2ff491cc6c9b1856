import type pg from 'pg'
import {
  definitionKey,
  emptyTarget,
  type Dependent,
  type ServerState,
  type TargetState,
  type TargetTable,
} from '../../../core/restore/target'
import { partsByRoot } from '../../../core/restore/other-mends'
import { thingKey } from '../../../core/restore/sql'
import { withClient, type PostgresAccess } from './connect'
import { dependentsOf, typesInUse } from './dependents'
import { describeSequences, describeTables } from './describe'
import { describeProperties } from './describe-database'
import { MADE_TYPE, ROUTINE_NAME } from './discover'
import { eventTriggersOf } from './event-triggers'
import { databasesOf } from './probe'
import { untilGiven } from './locks'
import { freeSpace } from './space'
import { readStructure } from './utilities'

/**
 * What stands in a database now, as a plan has to know it. Definitions of things without rows take a dump of
 * the structure, so they are read only when `withDefinitions` asks for them.
 */
export async function inspectTarget(access: PostgresAccess, database: string, withDefinitions: boolean): Promise<TargetState> {
  const { databases, server } = await withClient(access, undefined, async (client) => ({
    databases: await databasesOf(client),
    server: await serverState(client, access),
  }))
  if (!databases.some(({ name }) => name === database)) return emptyTarget(server)
  // Whoever holds a table keeps it from being read as well, be it only for the blink of a change to it.
  return untilGiven(() => inspectOnce(access, database, server, withDefinitions))
}

function inspectOnce(access: PostgresAccess, database: string, server: ServerState, withDefinitions: boolean): Promise<TargetState> {
  return withClient(access, database, async (client) => {
    const described = await describeTables(client)
    const needing = await dependentsOf(client)
    const held = await holdersOf(client)
    const referring = await referringTo(client)
    const { views, ...state } = await namesAt(client)
    const eventTriggers = (await eventTriggersOf(client)).map(({ name }) => name)
    const sequences = await describeSequences(client)
    const properties = await describeProperties(client)
    const entries = withDefinitions ? await readStructure(access, database, client) : []
    const tables = described.map(({ oid, schema, name, structure, rows, bytes, key, mayReplace }): [string, TargetTable] => [
      thingKey(schema, name),
      {
        structure,
        rows,
        bytes,
        key,
        mayReplace,
        dependents: needing.relation(oid),
        heldBy: held.get(oid) ?? [],
        referredBy: referring.get(oid) ?? [],
      },
    ])
    return {
      ...server,
      ...state,
      exists: true,
      eventTriggers,
      sequences: new Map(sequences.map((sequence) => [thingKey(sequence.schema, sequence.name), sequence])),
      properties,
      definitions: new Map([...partsByRoot(entries, sequences).values()].map((parts) => [definitionKey(parts[0]!), parts])),
      dependents: new Map(views.map(({ key, oid }): [string, Dependent[]] => [key, needing.relation(oid)])),
      types: await typesInUse(client, needing),
      tables: new Map(tables),
    }
  })
}

async function serverState(client: pg.Client, access: PostgresAccess): Promise<ServerState> {
  const { rows: roles } = await client.query<{ name: string; member: boolean }>(
    `select rolname as name, pg_has_role(oid, 'member') as member from pg_catalog.pg_roles`,
  )
  const { rows: spaces } = await client.query<{ name: string }>('select spcname as name from pg_catalog.pg_tablespace')
  const { rows: extensions } = await client.query<{ name: string; trusted: boolean }>(
    `select name, bool_or(trusted or not superuser) as trusted from pg_catalog.pg_available_extension_versions group by 1`,
  )
  const { rows } = await client.query<{ superuser: boolean; createdb: boolean; createrole: boolean; version: number }>(
    `select rolsuper as superuser, rolsuper or rolcreatedb as createdb, rolsuper or rolcreaterole as createrole,
       current_setting('server_version_num')::int / 10000 as version
     from pg_catalog.pg_roles where rolname = current_user`,
  )
  const { superuser, createdb, createrole, version } = rows[0]!
  return {
    roles: new Set(roles.map((row) => row.name)),
    memberOf: new Set(roles.filter(({ member }) => member).map((row) => row.name)),
    tablespaces: new Set(spaces.map((row) => row.name)),
    available: new Set(extensions.map((row) => row.name)),
    trusted: new Set(extensions.filter(({ trusted }) => trusted).map((row) => row.name)),
    // In a database that is made, nobody but a superuser has a right on its catalogs.
    may: { create: true, createDatabase: createdb, createRole: createrole, superuser, readLargeObjects: superuser },
    version,
    free: await freeSpace(client, access),
  }
}

/** Who holds a table at the moment, by its object id. */
async function holdersOf(client: pg.Client): Promise<Map<number, string[]>> {
  const { rows } = await client.query<{ oid: number; who: string }>(
    `select distinct l.relation::int as oid, coalesce(nullif(a.application_name, ''), a.usename, 'a backend') || ' (process ' || l.pid || ')' as who
     from pg_catalog.pg_locks l left join pg_catalog.pg_stat_activity a on a.pid = l.pid
     where l.granted and l.locktype = 'relation' and l.relation >= 16384 and l.pid <> pg_backend_pid()
       and l.database = (select oid from pg_catalog.pg_database where datname = current_database())`,
  )
  const held = new Map<number, string[]>()
  for (const { oid, who } of rows) held.set(oid, [...(held.get(oid) ?? []), who])
  return held
}

/** Tables with foreign keys to others, by the object id of the table that they refer to. */
async function referringTo(client: pg.Client): Promise<Map<number, string[]>> {
  const { rows } = await client.query<{ oid: number; by: string }>(
    `select distinct confrelid::int as oid, conrelid::regclass::text as by from pg_catalog.pg_constraint
     where contype = 'f' and conparentid = 0 and conrelid <> confrelid order by 1, 2`,
  )
  const referring = new Map<number, string[]>()
  for (const { oid, by } of rows) referring.set(oid, [...(referring.get(oid) ?? []), by])
  return referring
}

async function namesAt(client: pg.Client) {
  const relations = await client.query<{ schema: string; name: string; kind: string; oid: number }>(
    `select n.nspname as schema, c.relname as name, c.relkind::text as kind, c.oid::int
     from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace where n.nspname !~ '^pg_toast'`,
  )
  const others = await client.query<{ schema: string; name: string }>(
    `select n.nspname as schema, ${ROUTINE_NAME} as name
     from pg_catalog.pg_proc p join pg_catalog.pg_namespace n on n.oid = p.pronamespace where n.nspname !~ '^pg_'
     union all
     select n.nspname, t.typname from pg_catalog.pg_type t join pg_catalog.pg_namespace n on n.oid = t.typnamespace
     where (t.typtype in ('e', 'd', 'r') or ${MADE_TYPE}) and n.nspname !~ '^pg_'`,
  )
  const { rows: schemas } = await client.query<{ name: string; create: boolean }>(
    `select nspname as name, has_schema_privilege(oid, 'create') as create from pg_catalog.pg_namespace`,
  )
  const { rows: extensions } = await client.query<{ name: string }>('select extname as name from pg_catalog.pg_extension')
  const { rows: large } = await client.query<{ oid: number }>('select oid::int from pg_catalog.pg_largeobject_metadata')
  const { rows: may } = await client.query<TargetState['may']>(
    `select has_database_privilege(current_database(), 'create') as create, rolsuper as superuser,
       rolsuper or rolcreatedb as "createDatabase", rolsuper or rolcreaterole as "createRole",
       has_table_privilege('pg_catalog.pg_largeobject', 'select') as "readLargeObjects"
     from pg_catalog.pg_roles where rolname = current_user`,
  )
  const key = ({ schema, name }: { schema: string; name: string }) => thingKey(schema, name)
  return {
    relations: new Set(relations.rows.map(key)),
    others: new Set([...others.rows, ...relations.rows.filter(({ kind }) => 'vmScf'.includes(kind))].map(key)),
    views: relations.rows.filter(({ kind }) => kind === 'v' || kind === 'm').map((row) => ({ key: key(row), oid: row.oid })),
    schemas: new Set(schemas.map((row) => row.name)),
    creatable: new Set(schemas.filter((row) => row.create).map((row) => row.name)),
    extensions: new Set(extensions.map((row) => row.name)),
    largeObjects: new Set(large.map((row) => row.oid)),
    may: may[0]!,
  }
}
