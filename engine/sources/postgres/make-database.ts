import type pg from 'pg'
import type { DatabaseManifest, DatabaseProperties } from '../../../core/content/manifest'
import { roleDefinition } from '../../../core/restore/plan'
import { quoteIdentifier, quoteLiteral } from '../../../core/restore/sql'
import { withClient, type PostgresAccess } from './connect'
import { attempt, type UnrestoredPart } from './refill'
import type { Writing } from './write-entry'

/** Makes a database; returns its number. */
export async function makeDatabase(
  client: pg.Client,
  name: string,
  manifest: Pick<DatabaseManifest, 'encoding' | 'collate' | 'ctype' | 'icuLocale'>,
): Promise<number> {
  const icu = manifest.icuLocale ? ` locale_provider icu icu_locale ${quoteLiteral(manifest.icuLocale)}` : ''
  await client.query(
    `create database ${quoteIdentifier(name)} template template0 encoding ${quoteLiteral(manifest.encoding)}
     lc_collate ${quoteLiteral(manifest.collate)} lc_ctype ${quoteLiteral(manifest.ctype)}${icu}`,
  )
  const { rows } = await client.query<{ oid: number }>('select oid::int from pg_catalog.pg_database where datname = $1', [name])
  return rows[0]!.oid
}

/**
 * Drops a database that was being made, if it is that one: where its number is not known, nothing was put into it yet, and
 * one with anything in it is somebody else's.
 */
export async function dropMade(
  client: pg.Client,
  access: PostgresAccess,
  { database, oid }: { database: string; oid: number | null },
): Promise<void> {
  const { rows } = await client.query<{ oid: number }>('select oid::int from pg_catalog.pg_database where datname = $1', [database])
  if (rows.length === 0 || (oid !== null && rows[0]!.oid !== oid)) return
  if (oid === null && !(await withClient(access, database, isEmpty))) return
  await dropDatabase(client, database)
}

async function isEmpty(client: pg.Client): Promise<boolean> {
  const { rows } = await client.query('select from pg_catalog.pg_class where oid >= 16384 limit 1')
  return rows.length === 0
}

/** Drops a database with its connections, subscriptions that were restored without being connected included. */
export async function dropDatabase(client: pg.Client, name: string): Promise<void> {
  await client.query(`drop database if exists ${quoteIdentifier(name)} with (force)`)
}

/** A role as it was then, without its password; its memberships come when all roles are there. */
export async function makeRole(client: pg.Client, manifest: DatabaseManifest, name: string): Promise<void> {
  const { login, inherit, createDatabase, createRole } = roleDefinition(manifest, name)
  const may = [
    login ? 'login' : 'nologin',
    inherit ? 'inherit' : 'noinherit',
    createDatabase ? 'createdb' : '',
    createRole ? 'createrole' : '',
  ]
  await client.query(`create role ${quoteIdentifier(name)} ${may.join(' ')}`)
}

/** Puts a role into the roles that it was a member of. Each that fails, or is not there, is told. */
export async function joinRoles(
  client: pg.Client,
  manifest: DatabaseManifest,
  name: string,
  there: Set<string>,
): Promise<UnrestoredPart[]> {
  const unrestored: UnrestoredPart[] = []
  const { memberOf, adminOf = [] } = roleDefinition(manifest, name)
  for (const group of memberOf) {
    const what = `membership of ${name} in ${group}`
    if (!there.has(group)) unrestored.push({ what, why: `There is no role ${group} at the target.` })
    else
      await client
        .query(`grant ${quoteIdentifier(group)} to ${quoteIdentifier(name)}${adminOf.includes(group) ? ' with admin option' : ''}`)
        .catch((error: Error) => unrestored.push({ what, why: error.message }))
  }
  return unrestored
}

/**
 * Owner, rights, comment and settings of a database, as they were then. Each that fails is told.
 *
 * @param now what a database that stands has of them; null for one that was just made
 */
export async function writeProperties(
  client: pg.Client,
  name: string,
  before: DatabaseProperties,
  { roles, target }: Writing,
  now: DatabaseProperties | null,
): Promise<UnrestoredPart[]> {
  const database = quoteIdentifier(name)
  const unrestored: UnrestoredPart[] = []
  const roleOf = (role: string) => roles[role] ?? role
  const run = async (sql: string, what: string) => {
    const failure = await attempt(client, sql)
    if (failure) unrestored.push({ what, why: failure.message })
  }
  await client.query('begin')
  await run(`comment on database ${database} is ${before.comment === null ? 'null' : quoteLiteral(before.comment)}`, 'comment')
  if (before.connectionLimit !== (now?.connectionLimit ?? -1))
    await run(`alter database ${database} connection limit ${before.connectionLimit}`, 'connection limit')
  const whose = (role: string | null) => (role === null ? `database ${database}` : `role ${quoteIdentifier(role)} in database ${database}`)
  for (const role of new Set((now?.settings ?? []).map((setting) => setting.role))) await run(`alter ${whose(role)} reset all`, 'settings')
  for (const { role, setting } of before.settings) {
    const [key, value] = [setting.slice(0, setting.indexOf('=')), setting.slice(setting.indexOf('=') + 1)]
    const to = LISTS.has(key) ? value : quoteLiteral(value)
    await run(
      `alter ${whose(role && roleOf(role))} set ${key.split('.').map(quoteIdentifier).join('.')} to ${to || "''"}`,
      `setting ${key}`,
    )
  }
  await run(`revoke all on database ${database} from public`, 'rights')
  for (const role of new Set((now?.grants ?? []).flatMap((grant) => grant.role ?? [])))
    if (role !== now!.owner) await run(`revoke all on database ${database} from ${quoteIdentifier(role)} cascade`, 'rights')
  if (target.roles.has(roleOf(before.owner)))
    await run(`alter database ${database} owner to ${quoteIdentifier(roleOf(before.owner))}`, 'owner')
  for (const { role, privilege, grantable } of before.grants) {
    if (role === before.owner) continue
    const to = role === null ? 'public' : quoteIdentifier(roleOf(role))
    await run(
      `grant ${privilege} on database ${database} to ${to}${grantable ? ' with grant option' : ''}`,
      `rights of ${role ?? 'public'}`,
    )
  }
  await client.query('commit')
  return unrestored
}

// Settings whose value is a list of names; they are kept with their quotes already.
const LISTS = new Set(['search_path', 'session_preload_libraries', 'local_preload_libraries', 'temp_tablespaces'])
