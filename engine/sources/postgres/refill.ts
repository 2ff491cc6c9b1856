import type pg from 'pg'
import { qualified, quoteIdentifier, quoteLiteral } from '../../../core/restore/sql'
import { ENABLE } from './event-triggers'

export interface TableName {
  schema: string
  name: string
}

const nameOf = (table: TableName) => qualified(table.schema, table.name)

interface ForeignKey {
  oid: number
  table: string
  name: string
  definition: string
  comment: string | null
  /** Triggers of the server's own that keep it, and that somebody switched: on which table, by which function, and how. */
  switched: { table: string; by: number; enabled: string }[]
}

/** What was taken off a table while it is emptied and filled, and is put back in the same transaction. */
export interface TakenOff {
  foreignKeys: ForeignKey[]
  triggers: { table: string; name: string; enabled: string }[]
  rules: { table: string; name: string; enabled: string }[]
  forced: string[]
  /** Checks that rows from before need not pass. */
  checks: { table: string; name: string; definition: string }[]
}

export const nothingTakenOff = (): TakenOff => ({ foreignKeys: [], triggers: [], rules: [], forced: [], checks: [] })

const oids = (tables: TableName[]) => tables.map(nameOf)

/** Tables at the other end of foreign keys to or from the given ones. */
export async function partnersOf(client: pg.Client, tables: TableName[]): Promise<TableName[]> {
  const { rows } = await client.query<TableName>(
    `select distinct n.nspname as schema, c.relname as name from pg_catalog.pg_constraint k, pg_catalog.pg_class c, pg_catalog.pg_namespace n
     where k.contype = 'f' and k.conparentid = 0 and (k.conrelid = any ($1::regclass[]) or k.confrelid = any ($1::regclass[]))
       and c.oid in (k.conrelid, k.confrelid) and n.oid = c.relnamespace`,
    [oids(tables)],
  )
  return rows
}

/**
 * Readies tables that exist for new rows, inside the caller's transaction: foreign keys at both ends are taken
 * off, user triggers do not fire. The tables must be locked.
 */
export async function takeOff(client: pg.Client, tables: TableName[]): Promise<TakenOff> {
  const { rows: foreignKeys } = await client.query<ForeignKey>(
    `select k.oid::int, k.conrelid::regclass::text as table, k.conname as name, pg_get_constraintdef(k.oid) as definition,
       obj_description(k.oid, 'pg_constraint') as comment,
       coalesce((select json_agg(json_build_object('table', t.tgrelid::regclass, 'by', t.tgfoid::int, 'enabled', t.tgenabled))
         from pg_catalog.pg_trigger t where t.tgconstraint = k.oid and t.tgenabled <> 'O'), '[]') as switched
     from pg_catalog.pg_constraint k
     where k.contype = 'f' and k.conparentid = 0 and (k.conrelid = any ($1::regclass[]) or k.confrelid = any ($1::regclass[]))
     order by k.oid`,
    [oids(tables)],
  )
  for (const key of foreignKeys) await client.query(`alter table ${key.table} drop constraint ${quoteIdentifier(key.name)}`)
  return { ...(await quieten(client, tables)), foreignKeys }
}

/** Triggers do not fire, rules do not rewrite, and row-level security does not bind the owner; keys still hold. */
export async function quieten(client: pg.Client, tables: TableName[]): Promise<TakenOff> {
  const { rows: triggers } = await client.query<TakenOff['triggers'][number]>(
    `select tgrelid::regclass::text as table, tgname as name, tgenabled::text as enabled
     from pg_catalog.pg_trigger where not tgisinternal and tgenabled <> 'D' and tgrelid = any ($1::regclass[])`,
    [oids(tables)],
  )
  for (const trigger of triggers) await client.query(`alter table only ${trigger.table} disable trigger ${quoteIdentifier(trigger.name)}`)
  const { rows: rules } = await client.query<TakenOff['rules'][number]>(
    `select ev_class::regclass::text as table, rulename as name, ev_enabled::text as enabled
     from pg_catalog.pg_rewrite where rulename <> '_RETURN' and ev_enabled <> 'D' and ev_class = any ($1::regclass[])`,
    [oids(tables)],
  )
  for (const rule of rules) await client.query(`alter table ${rule.table} disable rule ${quoteIdentifier(rule.name)}`)
  const { rows: forced } = await client.query<{ table: string }>(
    `select oid::regclass::text as table from pg_catalog.pg_class where relforcerowsecurity and oid = any ($1::regclass[])`,
    [oids(tables)],
  )
  for (const { table } of forced) await client.query(`alter table only ${table} no force row level security`)
  const { rows: checks } = await client.query<TakenOff['checks'][number]>(
    `select conrelid::regclass::text as table, conname as name, pg_get_constraintdef(oid) as definition
     from pg_catalog.pg_constraint where contype = 'c' and not convalidated and conislocal and conrelid = any ($1::regclass[])`,
    [oids(tables)],
  )
  for (const { table, name } of checks) await client.query(`alter table ${table} drop constraint ${quoteIdentifier(name)}`)
  return { foreignKeys: [], triggers, rules, forced: forced.map((row) => row.table), checks }
}

/**
 * Takes checks of domains off that values from before need not pass, for the domains of some tables' columns; returns
 * what puts them back. Nobody else sees them off, because that is never committed.
 */
export async function relaxDomains(client: pg.Client, tables: TableName[]): Promise<() => Promise<void>> {
  const { rows } = await client.query<{ domain: string; name: string; definition: string; comment: string | null }>(LOOSE_DOMAINS, [
    oids(tables),
  ])
  for (const { domain, name } of rows) await client.query(`alter domain ${domain} drop constraint ${quoteIdentifier(name)}`)
  return async () => {
    for (const { domain, name, definition, comment } of rows) {
      await client.query(`alter domain ${domain} add constraint ${quoteIdentifier(name)} ${definition}`)
      if (comment !== null)
        await client.query(`comment on constraint ${quoteIdentifier(name)} on domain ${domain} is ${quoteLiteral(comment)}`)
    }
  }
}

const LOOSE_DOMAINS = `
  with recursive used as (
    select a.atttypid as type from pg_catalog.pg_attribute a where a.attrelid = any ($1::regclass[]) and a.attnum > 0 and not a.attisdropped
    union
    select n.type from used u join pg_catalog.pg_type t on t.oid = u.type cross join lateral (
      select t.typelem where t.typelem <> 0 union all select t.typbasetype where t.typbasetype <> 0
      union all select a.atttypid from pg_catalog.pg_attribute a where t.typrelid <> 0 and a.attrelid = t.typrelid and a.attnum > 0 and not a.attisdropped) n (type)
    where t.oid >= 16384)
  select k.contypid::regtype::text as domain, k.conname as name, pg_get_constraintdef(k.oid) as definition, obj_description(k.oid, 'pg_constraint') as comment
  from pg_catalog.pg_constraint k where k.contypid in (select type from used) and not k.convalidated order by k.oid`

/** Puts back all but the foreign keys. */
export async function putBack(client: pg.Client, takenOff: TakenOff): Promise<void> {
  for (const { table, name, enabled } of takenOff.triggers) {
    await client.query(`alter table only ${table} ${ENABLE[enabled]} trigger ${quoteIdentifier(name)}`)
  }
  for (const { table, name, enabled } of takenOff.rules)
    await client.query(`alter table ${table} ${ENABLE[enabled]} rule ${quoteIdentifier(name)}`)
  for (const table of takenOff.forced) await client.query(`alter table only ${table} force row level security`)
  for (const { table, name, definition } of takenOff.checks)
    await client.query(`alter table ${table} add constraint ${quoteIdentifier(name)} ${definition}`)
}

/** A part that could not be put in place as it was, and why. */
export interface UnrestoredPart {
  what: string
  why: string
}

/**
 * Adds a foreign key. Where rows without their counterpart stand in the way it is added without being
 * validated: it holds for every later change, and the receipt says which rows break it.
 */
export async function addForeignKey(client: pg.Client, statement: string, what: string): Promise<UnrestoredPart | null> {
  const tried = await attempt(client, statement)
  if (tried === null) return null
  if (tried.code !== '23503') return { what, why: tried.message }
  const unvalidated = await attempt(client, `${statement.replace(/;\s*$/, '')} not valid`)
  if (unvalidated) return { what, why: tried.message }
  return {
    what: `${what} is not validated`,
    why: `${tried.message}${tried.detail ? `: ${tried.detail}` : ''} It holds for every later change.`,
  }
}

export async function putBackForeignKeys(
  client: pg.Client,
  takenOff: TakenOff,
  exists: (table: string) => boolean,
): Promise<UnrestoredPart[]> {
  const unrestored: UnrestoredPart[] = []
  for (const { table, name, definition, comment, switched } of takenOff.foreignKeys) {
    if (!exists(table)) continue
    const statement = `alter table ${table} add constraint ${quoteIdentifier(name)} ${definition}`
    const part = await addForeignKey(client, statement, `foreign key ${name} of ${table}`)
    if (part) unrestored.push(part)
    for (const trigger of switched) await switchKeeper(client, { table, name }, trigger)
    if (comment !== null && part?.why !== undefined && !part.what.endsWith('validated')) continue
    if (comment !== null) await client.query(`comment on constraint ${quoteIdentifier(name)} on ${table} is ${quoteLiteral(comment)}`)
  }
  return unrestored
}

/** Only a superuser can have switched a trigger that keeps a foreign key, and only one can do so again; else it keeps it. */
async function switchKeeper(
  client: pg.Client,
  key: { table: string; name: string },
  { table, by, enabled }: ForeignKey['switched'][number],
): Promise<void> {
  const { rows } = await client.query<{ trigger: string }>(
    `select t.tgname as trigger from pg_catalog.pg_trigger t join pg_catalog.pg_constraint k on k.oid = t.tgconstraint
     where k.conrelid = $1::regclass and k.conname = $2 and t.tgrelid = $3::regclass and t.tgfoid = $4`,
    [key.table, key.name, table, by],
  )
  for (const { trigger } of rows) await attempt(client, `alter table only ${table} ${ENABLE[enabled]} trigger ${quoteIdentifier(trigger)}`)
}

/** Runs a statement that may fail without ending the transaction. */
export async function attempt(client: pg.Client, statement: string): Promise<{ code: string; message: string; detail?: string } | null> {
  await client.query('savepoint attempt')
  try {
    await client.query(statement)
    await client.query('release savepoint attempt')
    return null
  } catch (error) {
    await client.query('rollback to savepoint attempt')
    const { code, message, detail } = error as { code?: string; message: string; detail?: string }
    return { code: code ?? '', message, detail }
  }
}
