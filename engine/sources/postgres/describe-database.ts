import type pg from 'pg'
import type { DatabaseProperties, LargeObject, Missing, RoleDefinition } from '../../../core/content/manifest'
import { pathOf } from '../../../core/things/thing'

const GRANTS = (
  acl: string,
) => `coalesce((select json_agg(json_build_object('role', case a.grantee when 0 then null else pg_get_userbyid(a.grantee) end,
    'privilege', a.privilege_type, 'grantable', a.is_grantable) order by 1, a.privilege_type) from aclexplode(${acl}) a), '[]')`

/** What belongs to the database that the client is connected to: owner, rights, comment, settings. */
export async function describeProperties(client: pg.Client): Promise<DatabaseProperties> {
  const { rows } = await client.query<Omit<DatabaseProperties, 'settings'> & { connection_limit: number }>(
    `select pg_get_userbyid(d.datdba) as owner, shobj_description(d.oid, 'pg_database') as comment, d.datconnlimit as connection_limit,
       ${GRANTS(`coalesce(d.datacl, acldefault('d', d.datdba))`)} as grants
     from pg_catalog.pg_database d where d.datname = current_database()`,
  )
  const { rows: settings } = await client.query<{ role: string | null; setting: string }>(
    `select case s.setrole when 0 then null else pg_get_userbyid(s.setrole) end as role, unnest(s.setconfig) as setting
     from pg_catalog.pg_db_role_setting s join pg_catalog.pg_database d on d.oid = s.setdatabase and d.datname = current_database() order by 1 nulls first, 2`,
  )
  const { connection_limit: connectionLimit, ...properties } = rows[0]!
  return { ...properties, settings, connectionLimit }
}

/** Every role that is not the server's own, without passwords. */
export async function describeRoles(client: pg.Client): Promise<RoleDefinition[]> {
  const { rows } = await client.query<RoleDefinition>(
    `select r.rolname as name, r.rolcanlogin as login, r.rolinherit as inherit, r.rolcreatedb as "createDatabase", r.rolcreaterole as "createRole",
       coalesce((select array_agg(g.rolname::text order by 1) from pg_catalog.pg_auth_members m join pg_catalog.pg_roles g on g.oid = m.roleid
         where m.member = r.oid), '{}') as "memberOf",
       coalesce((select array_agg(g.rolname::text order by 1) from pg_catalog.pg_auth_members m join pg_catalog.pg_roles g on g.oid = m.roleid
         where m.member = r.oid and m.admin_option), '{}') as "adminOf"
     from pg_catalog.pg_roles r where r.rolname !~ '^pg_' order by 1`,
  )
  return rows
}

/** The large objects of the database, or those with the given numbers; null when the role may not read what they hold. */
export async function describeLargeObjects(client: pg.Client, only: number[] | null = null): Promise<LargeObject[] | null> {
  const { rows: may } = await client.query<{ may: boolean }>(`select has_table_privilege('pg_catalog.pg_largeobject', 'select') as may`)
  if (!may[0]!.may) return null
  const { rows } = await client.query<LargeObject>(
    `select m.oid::int, pg_get_userbyid(m.lomowner) as owner, obj_description(m.oid, 'pg_largeobject') as comment,
       ${GRANTS(`coalesce(m.lomacl, acldefault('L', m.lomowner))`)} as grants
     from pg_catalog.pg_largeobject_metadata m where $1::int[] is null or m.oid::int = any ($1) order by m.oid`,
    [only],
  )
  return rows
}

/** What a backup of this database cannot hold, or only in part, by what it is. */
export async function describeLimits(client: pg.Client, source: string, database: string): Promise<Missing[]> {
  const { rows } = await client.query<{ kind: string; schema: string | null; name: string }>(
    `select 'foreign' as kind, n.nspname as schema, c.relname as name
       from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace where c.relkind = 'f'
     union all
     select 'configuration', n.nspname, c.relname from pg_catalog.pg_extension e, unnest(e.extconfig) x (oid)
       join pg_catalog.pg_class c on c.oid = x.oid and c.relkind = 'r' join pg_catalog.pg_namespace n on n.oid = c.relnamespace
     union all
     select 'large', null, 'large objects' where exists (select from pg_catalog.pg_largeobject_metadata)
       and not has_table_privilege('pg_catalog.pg_largeobject', 'select')
     union all
     select 'subscription', null, 'subscriptions' from pg_catalog.pg_stat_subscription s
       join pg_catalog.pg_database d on d.datname = current_database()
       where not (select rolsuper from pg_catalog.pg_roles where rolname = current_user)
     group by 1, 2, 3
     order by 1, 2, 3`,
  )
  return rows.map(({ kind, schema, name }) => ({
    path: pathOf(source, database, ...(schema === null ? [] : [schema]), name),
    ...LIMITS[kind]!,
  }))
}

const LIMITS: Record<string, { reason: string; note?: boolean }> = {
  foreign: { reason: 'Its rows are on another server; only its structure is kept.', note: true },
  configuration: { reason: 'It belongs to an extension, which makes it anew; rows that were added to it are not kept.', note: true },
  large: { reason: 'Large objects can’t be read: grant select on pg_catalog.pg_largeobject to the connecting role.' },
  subscription: { reason: 'Only a superuser sees subscriptions; they are not kept.', note: true },
}
