import type pg from 'pg'
import { qualified, quoteIdentifier, quoteLiteral } from '../../../../core/restore/sql'
import { isSuperuser, OURS, quietly } from '../event-triggers'
import { IDENTITY_FACTS, SAFE, troubleOf, type Identity } from './identity'
import { BEFORE_UNLOGGED, NOTE_REWRITE, NOTE_STRUCTURE } from './note-structure'

// What is put onto a source so that its log can be followed, word for word as the definition shows it. None of it
// may make a statement of the source fail or wait: the function swallows its own errors and waits for no lock
// longer than a tenth of a second, no table is published whose updates would then be refused, and event triggers of
// the application see nothing of it (those that are set to fire always can't be kept from it, which readiness tells).

/** Our event triggers: when each fires, and the function that it calls. */
const EVENTS = [
  { name: `${OURS}_start`, event: `ddl_command_start when tag in ('ALTER TABLE')`, calls: 'before_unlogged' },
  { name: `${OURS}_rewrite`, event: 'table_rewrite', calls: 'note_rewrite' },
  { name: `${OURS}_command`, event: 'ddl_command_end', calls: 'note_structure' },
  { name: `${OURS}_drop`, event: 'sql_drop', calls: 'note_structure' },
]
const FUNCTIONS = { note_structure: NOTE_STRUCTURE, note_rewrite: NOTE_REWRITE, before_unlogged: BEFORE_UNLOGGED }

// They fire always, because a session that takes changes over from elsewhere changes the structure like any other.
const TRIGGERS = [
  `create schema if not exists ${OURS}`,
  ...Object.entries(FUNCTIONS).flatMap(([name, sql]) => [sql, `revoke all on function ${OURS}.${name}() from public`]),
  ...EVENTS.flatMap(({ name, event, calls }) => [
    `drop event trigger if exists ${name}`,
    `create event trigger ${name} on ${event} execute function ${OURS}.${calls}()`,
    `alter event trigger ${name} enable always`,
  ]),
]

const UNTRIGGERS = [...EVENTS.map(({ name }) => `drop event trigger if exists ${name}`), `drop schema if exists ${OURS} cascade`]

export interface LogTable {
  oid: number
  schema: string
  name: string
}

const publish = (publication: string, tables: LogTable[]) => {
  const list = tables.map(({ schema, name }) => `only ${quoteIdentifier(schema)}.${quoteIdentifier(name)}`).join(', ')
  return `create publication ${quoteIdentifier(publication)}${list ? ` for table ${list}` : ''}`
}

/** The exact statements that following the log begins with, in their order. */
export function installStatements(names: { slot: string; publication: string }, tables: LogTable[], trigger: boolean): string[] {
  return [
    ...(trigger ? TRIGGERS : []),
    publish(names.publication, tables),
    `select pg_create_logical_replication_slot(${quoteLiteral(names.slot)}, 'pgoutput')`,
  ].map((statement) => `${statement};`)
}

/** Those that take everything away again. */
export function removeStatements(names: { slot: string; publication: string }): string[] {
  return [
    `select pg_drop_replication_slot(${quoteLiteral(names.slot)});`,
    `drop publication if exists ${quoteIdentifier(names.publication)};`,
    ...UNTRIGGERS.map((s) => `${s};`),
  ]
}

/**
 * Installs what notes changes of structure. Several followers of a database share it.
 * @returns as `triggerWritten`, and whether it was not as it should be
 */
export async function installTrigger(client: pg.Client): Promise<{ written: string; isNew: boolean }> {
  const isNew = !(await isInstalled(client))
  if (isNew)
    await quietly(client, async () => {
      for (const statement of TRIGGERS) await client.query(statement)
    })
  return { written: await triggerWritten(client), isNew }
}

/** A text that is another one once anybody did something to what notes changes of structure. */
export async function triggerWritten(client: pg.Client): Promise<string> {
  const { rows } = await client.query<{ written: string }>(
    `select string_agg(oid || ' ' || written, ',' order by oid) as written from (
       select oid, xmin::text as written from pg_catalog.pg_event_trigger where evtname = any ($1)
       union all select p.oid, p.xmin::text from pg_catalog.pg_proc p join pg_catalog.pg_namespace n on n.oid = p.pronamespace where n.nspname = $2) ours`,
    [EVENTS.map(({ name }) => name), OURS],
  )
  return rows[0]!.written
}

/** Whether all of it is there, as this version would install it, and switched on. */
async function isInstalled(client: pg.Client): Promise<boolean> {
  const { rows } = await client.query<{ name: string; source: string }>(
    `select p.proname as name, p.prosrc as source from pg_catalog.pg_proc p join pg_catalog.pg_namespace n on n.oid = p.pronamespace where n.nspname = $1`,
    [OURS],
  )
  const found = new Map(rows.map(({ name, source }) => [name, source]))
  const current = Object.entries(FUNCTIONS).every(([name, sql]) => found.has(name) && sql.includes(found.get(name)!))
  return current && (await hasTrigger(client))
}

export async function hasTrigger(client: pg.Client): Promise<boolean> {
  const { rows } = await client.query<{ count: number }>(
    `select count(*)::int as count from pg_catalog.pg_event_trigger where evtname = any ($1) and evtenabled = 'A'`,
    [EVENTS.map(({ name }) => name)],
  )
  return rows[0]!.count === EVENTS.length
}

/**
 * Makes the publication hold exactly the wanted ones of the tables that were seen, as far as their locks are given:
 * nobody is kept waiting for it. What it holds beside them was made, and published, since they were looked at, and
 * stays. Returns which ones came to it, and the object ids of all that are in it then.
 */
export async function alignPublication(
  client: pg.Client,
  publication: string,
  tables: { seen: Identified[]; wanted: LogTable[] },
): Promise<{ added: LogTable[]; published: Set<number> }> {
  const { rows: exists } = await client.query(`select from pg_catalog.pg_publication where pubname = $1`, [publication])
  if (exists.length === 0) await quietly(client, () => client.query(publish(publication, [])))
  const has = await membersOf(client, publication)
  const known = new Set(has.map(({ oid }) => oid))
  const wanted = new Set(tables.wanted.map(({ oid }) => oid))
  const unwanted = new Map(tables.seen.filter(({ oid }) => !wanted.has(oid)).map((table) => [table.oid, table]))
  for (const { oid } of has) if (unwanted.has(oid)) await withdraw(client, publication, unwanted.get(oid)!)
  const fresh = tables.wanted.filter(({ oid }) => !known.has(oid))
  if (fresh.length > 0 && !(await publishSafely(client, publication, fresh)))
    for (const table of fresh) await publishSafely(client, publication, [table])
  const published = new Set((await membersOf(client, publication)).map(({ oid }) => oid))
  return { added: fresh.filter(({ oid }) => published.has(oid)), published }
}

async function membersOf(client: pg.Client, publication: string): Promise<LogTable[]> {
  const { rows } = await client.query<LogTable>(
    `select c.oid::int, n.nspname as schema, c.relname as name from pg_catalog.pg_publication p
       join pg_catalog.pg_publication_rel r on r.prpubid = p.oid join pg_catalog.pg_class c on c.oid = r.prrelid
       join pg_catalog.pg_namespace n on n.oid = c.relnamespace where p.pubname = $1`,
    [publication],
  )
  return rows
}

/** Gone already, or held by somebody who is not to wait for us; it is looked at again. */
const isHeldOrGone = (error: unknown) => ['42P01', '42704', '55P03', '40P01'].includes((error as { code?: string }).code ?? '')

/** Takes a table out; one that was in trouble when it was looked at stays if it can be followed by now. */
async function withdraw(client: pg.Client, publication: string, { oid, schema, name, trouble }: Identified): Promise<void> {
  try {
    await quietly(client, async () => {
      await client.query(`alter publication ${quoteIdentifier(publication)} drop table only ${qualified(schema, name)}`)
      if (trouble === null) return
      const { rowCount } = await client.query(`select from pg_catalog.pg_class c where c.oid = $1 and ${SAFE}`, [oid])
      if (rowCount === 1) throw Object.assign(new Error('It can be followed by now.'), { code: '42704' })
    })
  } catch (error) {
    if (!isHeldOrGone(error)) throw error
  }
}

/**
 * Publishes tables unless one has lost its identity since it was looked at: with the locks held they are looked at
 * once more, so that nobody ever sees one published whose updates would be refused. Tells whether all came to it.
 */
async function publishSafely(client: pg.Client, publication: string, tables: LogTable[]): Promise<boolean> {
  const list = tables.map(({ schema, name }) => `only ${qualified(schema, name)}`).join(', ')
  try {
    await quietly(client, async () => {
      await client.query(`alter publication ${quoteIdentifier(publication)} add table ${list}`)
      const { rowCount } = await client.query(`select from pg_catalog.pg_class c where c.oid = any ($1) and ${SAFE}`, [
        tables.map(({ oid }) => oid),
      ])
      if (rowCount !== tables.length) throw Object.assign(new Error('An identity is lost.'), { code: '42704' })
    })
    return true
  } catch (error) {
    if (isHeldOrGone(error)) return false
    throw error
  }
}

/** Takes a follower's things off a database; the trigger goes with the last of them. */
export async function uninstall(client: pg.Client, publication: string): Promise<void> {
  await quietly(client, () => client.query(`drop publication if exists ${quoteIdentifier(publication)}`))
  const { rows } = await client.query(`select from pg_catalog.pg_publication where pubname like $1 limit 1`, [`${OURS}\\_%`])
  if (rows.length > 0) return
  if (!(await isSuperuser(client))) return
  await quietly(client, async () => {
    for (const statement of UNTRIGGERS) await client.query(statement)
  })
}

export interface Identified extends LogTable {
  /** Why its rows can't be followed; null when they can. */
  trouble: string | null
  /** The statement that mends it, where one does. */
  mend: string | null
}

/** Every table with rows of its own, whether its changes can be followed, and what mends it if not. */
export async function identities(client: pg.Client): Promise<Identified[]> {
  const { rows } = await client.query<LogTable & Identity>(IDENTITIES)
  return rows.map(({ oid, schema, name, ...table }) => ({ oid, schema, name, ...troubleOf(schema, name, table) }))
}

const IDENTITIES = `
  select c.oid::int, n.nspname as schema, c.relname as name, c.relpersistence as persistence, c.relreplident as identity,
    ${IDENTITY_FACTS.trim()}
  from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace
  where c.relkind = 'r' and c.relpersistence in ('p', 'u') and n.nspname !~ '^pg_' and n.nspname not in ('information_schema', '${OURS}')
    and not exists (select from pg_catalog.pg_depend d where d.classid = 'pg_catalog.pg_class'::regclass and d.objid = c.oid and d.deptype = 'e')
  order by 2, 3`
