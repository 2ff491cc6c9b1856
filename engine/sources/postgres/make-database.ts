import type pg from 'pg'
import type { DatabaseManifest, DatabaseProperties } from '../../../core/content/manifest'
import { roleDefinition } from '../../../core/restore/plan'
import { quoteIdentifier, quoteLiteral } from '../../../core/restore/sql'
import { attempt, type LeftPart } from './refill'
import type { Writing } from './write-entry'

export async function makeDatabase(
  client: pg.Client,
  name: string,
  manifest: Pick<DatabaseManifest, 'encoding' | 'collate' | 'ctype' | 'icuLocale'>,
): Promise<void> {
  const icu = manifest.icuLocale ? ` locale_provider icu icu_locale ${quoteLiteral(manifest.icuLocale)}` : ''
  await client.query(
    `create database ${quoteIdentifier(name)} template template0 encoding ${quoteLiteral(manifest.encoding)}
     lc_collate ${quoteLiteral(manifest.collate)} lc_ctype ${quoteLiteral(manifest.ctype)}${icu}`,
  )
}

/** Drops a database with its connections, subscriptions that were brought back without being connected included. */
export async function dropDatabase(client: pg.Client, name: string): Promise<void> {
  await client.query(`drop database if exists ${quoteIdentifier(name)} with (force)`)
}

/** A role as it was then, without its password and its memberships in roles that are not there. */
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

/** Owner, rights, comment and settings of a database that was just made. Each that fails is told. */
export async function writeProperties(
  client: pg.Client,
  name: string,
  then: DatabaseProperties,
  { roles, target }: Writing,
): Promise<LeftPart[]> {
  const database = quoteIdentifier(name)
  const left: LeftPart[] = []
  const roleOf = (role: string) => roles[role] ?? role
  const run = async (sql: string, what: string) => {
    const failure = await attempt(client, sql)
    if (failure) left.push({ what, why: failure.message })
  }
  await client.query('begin')
  if (then.comment !== null) await run(`comment on database ${database} is ${quoteLiteral(then.comment)}`, 'comment')
  if (then.connectionLimit !== -1) await run(`alter database ${database} connection limit ${then.connectionLimit}`, 'connection limit')
  for (const { role, setting } of then.settings) {
    const [key, value] = [setting.slice(0, setting.indexOf('=')), setting.slice(setting.indexOf('=') + 1)]
    const whose = role === null ? `database ${database}` : `role ${quoteIdentifier(roleOf(role))} in database ${database}`
    const to = LISTS.has(key) ? value : quoteLiteral(value)
    await run(`alter ${whose} set ${key.split('.').map(quoteIdentifier).join('.')} to ${to || "''"}`, `setting ${key}`)
  }
  await run(`revoke all on database ${database} from public`, 'rights')
  for (const { role, privilege, grantable } of then.grants) {
    if (role === then.owner) continue
    const to = role === null ? 'public' : quoteIdentifier(roleOf(role))
    await run(
      `grant ${privilege} on database ${database} to ${to}${grantable ? ' with grant option' : ''}`,
      `rights of ${role ?? 'public'}`,
    )
  }
  if (target.roles.has(roleOf(then.owner))) await run(`alter database ${database} owner to ${quoteIdentifier(roleOf(then.owner))}`, 'owner')
  await client.query('commit')
  return left
}

// Settings whose value is a list; they are kept with their quotes already.
const LISTS = new Set(['search_path', 'session_preload_libraries', 'local_preload_libraries', 'temp_tablespaces', 'DateStyle'])
