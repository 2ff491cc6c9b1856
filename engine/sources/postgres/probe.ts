import type pg from 'pg'
import { errorRecord } from '../../../core/errors'
import { quoteIdentifier } from '../../../core/restore/sql'
import { countInWords } from '../../../core/time/words'
import type { ProbeFinding, ProbeReport } from '../source'
import { connect, OLDEST, ServerTooOld, withClient, type PostgresAccess } from './connect'
import { findUtilities } from './utilities'

/** Tests everything that a backup needs, one by one; each missing thing comes with what mends it. */
export async function probe(access: PostgresAccess, now: Date): Promise<ProbeReport> {
  const findings: ProbeFinding[] = []
  const report = (server: ProbeReport['server']): ProbeReport => ({
    at: now.toISOString(),
    server,
    findings,
    usable: findings.every((finding) => finding.outcome !== 'missing'),
  })
  let client: pg.Client
  try {
    client = await connect(access)
  } catch (error) {
    const { what, next } = errorRecord(error)
    if (error instanceof ServerTooOld) {
      findings.push(reached(access), { id: 'version', title: 'Version', outcome: 'missing', detail: what, mend: next })
      return report({ version: error.version, versionNumber: Number.parseInt(error.version, 10) * 10000, systemId: 'unknown' })
    }
    findings.push({ id: 'reachable', title: 'Reachable', outcome: 'missing', detail: what, mend: next })
    return report(null)
  }
  try {
    const server = { ...(await serverOf(client)), zone: await zoneOf(client) }
    findings.push(reached(access), ok('version', 'Version', `PostgreSQL ${server.version}; ${OLDEST} or newer is needed.`))
    findings.push(await utilitiesFinding(server.versionNumber))
    findings.push(await readFinding(access, client))
    findings.push(...(await roleFindings(access, client)))
    findings.push(await logFinding(client))
    return report(server)
  } finally {
    await client.end().catch(() => undefined)
  }
}

const ok = (id: string, title: string, detail: string): ProbeFinding => ({ id, title, outcome: 'ok', detail, mend: null })

const reached = ({ settings }: PostgresAccess) =>
  ok('reachable', 'Reachable', `${settings.host}:${settings.port} lets ${settings.user} in.`)

export async function serverOf(client: pg.Client): Promise<{ version: string; versionNumber: number; systemId: string }> {
  const { rows } = await client.query<{ version: string; number: number }>(
    `select current_setting('server_version') as version, current_setting('server_version_num')::int as number`,
  )
  const system = await client
    .query<{ id: string }>('select system_identifier::text as id from pg_catalog.pg_control_system()')
    .then((result) => result.rows[0]!.id)
    .catch(() => 'unknown')
  return { version: rows[0]!.version.split(' ')[0]!, versionNumber: rows[0]!.number, systemId: system }
}

/** The time zone in which the server itself tells times; our sessions have one of their own. */
async function zoneOf(client: pg.Client): Promise<string> {
  const { rows } = await client.query<{ zone: string }>(`select reset_val as zone from pg_catalog.pg_settings where name = 'TimeZone'`)
  return rows[0]!.zone
}

async function utilitiesFinding(versionNumber: number): Promise<ProbeFinding> {
  const needed = Math.floor(versionNumber / 10000)
  const newest = (await findUtilities())[0]
  if (newest && newest.version >= needed) return ok('utilities', 'Dump utility', `Version ${newest.version} is installed here.`)
  return {
    id: 'utilities',
    title: 'Dump utility',
    outcome: 'missing',
    detail: newest ? `The newest here is ${newest.version}; it must be ${needed} or newer.` : 'None is installed here.',
    mend: `apt-get install postgresql-client-${needed}`,
  }
}

async function readFinding(access: PostgresAccess, client: pg.Client): Promise<ProbeFinding> {
  const user = quoteIdentifier(access.settings.user)
  const unreadable: string[] = []
  const closed: string[] = []
  let tables = 0
  for (const database of await databasesOf(client)) {
    if (!database.connectable) closed.push(database.name)
    else {
      const result = await withClient(access, database.name, unreadableTables)
      tables += result.tables
      unreadable.push(...result.unreadable.map((table) => `${database.name}: ${table}`))
    }
  }
  if (unreadable.length === 0 && closed.length === 0) return ok('read', 'Right to read', `All ${countInWords(tables)} tables can be read.`)
  const parts = []
  if (closed.length > 0) parts.push(`no right to connect to ${closed.join(', ')}`)
  if (unreadable.length > 0) {
    const more = unreadable.length > 3 ? ` and ${countInWords(unreadable.length - 3)} more` : ''
    parts.push(`no right to read ${unreadable.slice(0, 3).join(', ')}${more}`)
  }
  return {
    id: 'read',
    title: 'Right to read',
    outcome: 'advice',
    detail: `${access.settings.user} has ${parts.join('; ')}. These can’t be backed up.`,
    mend: `GRANT pg_read_all_data TO ${user};`,
  }
}

export async function databasesOf(client: pg.Client): Promise<{ name: string; connectable: boolean; bytes: number | null }[]> {
  const { rows } = await client.query<{ name: string; connectable: boolean; bytes: string | null }>(
    `select datname as name, has_database_privilege(oid, 'connect') as connectable,
       case when has_database_privilege(oid, 'connect') then pg_database_size(oid) end as bytes
     from pg_catalog.pg_database where datallowconn and not datistemplate order by datname`,
  )
  return rows.map((row) => ({ ...row, bytes: row.bytes === null ? null : Number(row.bytes) }))
}

async function unreadableTables(client: pg.Client): Promise<{ tables: number; unreadable: string[] }> {
  const { rows } = await client.query<{ name: string; readable: boolean }>(
    `select n.nspname || '.' || c.relname as name,
       has_schema_privilege(n.oid, 'usage') and has_table_privilege(c.oid, 'select') as readable
     from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace
     where c.relkind = 'r' and n.nspname !~ '^pg_' and n.nspname <> 'information_schema' order by 1`,
  )
  return { tables: rows.length, unreadable: rows.filter((row) => !row.readable).map((row) => row.name) }
}

async function roleFindings(access: PostgresAccess, client: pg.Client): Promise<ProbeFinding[]> {
  const user = quoteIdentifier(access.settings.user)
  const { rows } = await client.query<{ super: boolean; replication: boolean; bypass: boolean; create: boolean }>(
    `select rolsuper as super, rolsuper or rolreplication as replication, rolsuper or rolbypassrls as bypass,
       rolsuper or rolcreatedb as create from pg_catalog.pg_roles where rolname = current_user`,
  )
  const role = rows[0]!
  const finding = (id: string, title: string, has: boolean, yes: string, no: string, mend: string): ProbeFinding =>
    has ? ok(id, title, yes) : { id, title, outcome: 'advice', detail: no, mend }
  return [
    finding(
      'superuser',
      'Superuser',
      role.super,
      'Yes. Owners and rights can be restored as they were.',
      'No. Owners and rights of other roles can’t be restored, only those of its own.',
      `ALTER ROLE ${user} SUPERUSER;`,
    ),
    finding(
      'bypass',
      'Row security',
      role.bypass,
      'Every row is seen, whatever policies say.',
      'Tables with row security that applies to this role can’t be read whole, and will be reported.',
      `ALTER ROLE ${user} BYPASSRLS;`,
    ),
    finding(
      'replication',
      'Right to replicate',
      role.replication,
      'The log can be followed.',
      'The log can’t be followed, so only the moments of backups can be restored.',
      `ALTER ROLE ${user} REPLICATION;`,
    ),
    finding(
      'createdb',
      'Right to create databases',
      role.create,
      'A lost database can be made again.',
      'A database that is lost as a whole can’t be made again by this role.',
      `ALTER ROLE ${user} CREATEDB;`,
    ),
  ]
}

async function logFinding(client: pg.Client): Promise<ProbeFinding> {
  const { rows } = await client.query<{ level: string }>(`select current_setting('wal_level') as level`)
  const level = rows[0]!.level
  if (level === 'logical') return ok('wal_level', 'Log level', 'wal_level is logical: the log can be followed.')
  return {
    id: 'wal_level',
    title: 'Log level',
    outcome: 'advice',
    detail: `wal_level is ${level}. Without logical, only the moments of backups can be restored.`,
    mend: `ALTER SYSTEM SET wal_level = 'logical';  -- then restart the server`,
  }
}
