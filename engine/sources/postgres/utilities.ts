import { textOf } from '../../../core/content/text'
import { access as accessible, mkdtemp, readdir, rm, writeFile } from 'node:fs/promises'
import { tmpdir } from 'node:os'
import { delimiter, join } from 'node:path'
import { rootCertificates } from 'node:tls'
import type pg from 'pg'
import { VesselError } from '../../../core/errors'
import { parseStructure, type StructureEntry } from '../../../core/restore/structure'
import { startProgram } from '../../program'
import { SESSION_OPTIONS, type PostgresAccess } from './connect'
import { describeOwnership } from './describe'
import { OURS } from './event-triggers'

export interface Utilities {
  dump: string
  restore: string
  /** Major version. */
  version: number
}

let found: Promise<Utilities[]> | undefined

/** The server's own dump utilities on this machine, newest first. */
export function findUtilities(): Promise<Utilities[]> {
  found ??= search()
  return found
}

async function search(): Promise<Utilities[]> {
  const folders = (process.env.PATH ?? '').split(delimiter)
  const versions = await readdir('/usr/lib/postgresql').catch(() => [] as string[])
  folders.unshift(...versions.map((version) => join('/usr/lib/postgresql', version, 'bin')))
  const utilities: Utilities[] = []
  for (const folder of folders) {
    const [dump, restore] = [join(folder, 'pg_dump'), join(folder, 'pg_restore')]
    if (!(await exists(dump)) || !(await exists(restore))) continue
    const version = await versionOf(dump)
    if (version) utilities.push({ dump, restore, version })
  }
  return utilities.sort((a, b) => b.version - a.version)
}

const exists = (path: string) =>
  accessible(path).then(
    () => true,
    () => false,
  )

async function versionOf(program: string): Promise<number | undefined> {
  const text = await collect(startProgram(program, ['--version'], { stdio: ['ignore', 'pipe', 'ignore'] })).catch(() => '')
  const match = /\) (\d+)/.exec(text)
  return match ? Number(match[1]) : undefined
}

async function collect(child: ReturnType<typeof startProgram>): Promise<string> {
  const parts: Buffer[] = []
  child.stdout!.on('data', (part: Buffer) => parts.push(part))
  const code = await new Promise<number | null>((resolve, reject) => child.on('error', reject).on('close', resolve))
  if (code !== 0) throw new Error(`it ended with ${code}`)
  return textOf(Buffer.concat(parts))
}

/** The structure of a database, with what each entry belongs to. `client` is a connection to that database. */
export async function readStructure(
  access: PostgresAccess,
  database: string,
  client: pg.Client,
  options: { snapshot?: string; without?: string[]; signal?: AbortSignal } = {},
): Promise<StructureEntry[]> {
  const { rows } = await client.query<{ version: number; superuser: boolean; encoding: string }>(
    `select current_setting('server_version_num')::int / 10000 as version, rolsuper as superuser, pg_client_encoding() as encoding
     from pg_catalog.pg_roles where rolname = session_user`,
  )
  const { version, superuser, encoding } = rows[0]!
  const text = await dumpStructure(access, database, { ...options, serverVersion: version, superuser, encoding })
  const ownership = await describeOwnership(client)
  const entries = parseStructure(text).filter((entry) => !isOurs(entry))
  return entries.map((entry) => ({ ...entry, ...ownership.get(`${entry.catalog}/${entry.oid}`) }))
}

const NAMED_OURS = new RegExp(`(^|SCHEMA |TRIGGER |PUBLICATION )"?${OURS}`)

/** What following the log has put there is no part of the database. */
const isOurs = ({ schema, name, type }: StructureEntry) =>
  schema === OURS || (schema === null && NAMED_OURS.test(name)) || (type.startsWith('PUBLICATION') && name.startsWith(OURS))

/** How long it is tried to get the dump's locks, which are never waited for longer than others wait for deadlocks. */
const DUMP_PATIENCE_MS = 30_000
const DUMP_LOCK_WAIT = '400ms'
const HELD = /statement timeout|lock timeout|deadlock detected/
/** What the utility says when something that it has seen was changed before it came to it. */
const MOVED =
  /does not exist|cache lookup failed|could not open relation|concurrently (dropped|updated|deleted)|has no columns|not found in pg_/

interface DumpOptions {
  serverVersion: number
  superuser: boolean
  /** In which the client of the same database is spoken to. */
  encoding: string
  snapshot?: string
  without?: string[]
  signal?: AbortSignal
}

/**
 * The structure of a database as the server's dump utility writes it, seen through an exported snapshot: the
 * archive goes through its counterpart, which prints what each entry needs. `without` are tables that may not
 * be read. It gives way wherever somebody holds a table, and tries again.
 *
 * @throws VesselError `structure_moved` when the structure was changed beside it
 */
async function dumpStructure(access: PostgresAccess, database: string, options: DumpOptions): Promise<string> {
  const utilities = (await findUtilities()).find(({ version }) => version >= options.serverVersion)
  if (!utilities) throw tooOld(access, options.serverVersion)
  const until = Date.now() + DUMP_PATIENCE_MS
  const folder = await mkdtemp(join(tmpdir(), 'vessel-dump-'))
  try {
    const environment = await environmentOf(access, database, options, folder)
    for (;;) {
      const outcome = await dumpOnce(utilities, environment, options)
      if (outcome.text !== null) return outcome.text
      options.signal?.throwIfAborted()
      const again = HELD.test(outcome.complaint) || (MOVED.test(outcome.complaint) && !options.snapshot)
      if (!again || Date.now() >= until) throw dumpFailed(database, outcome.complaint)
      await new Promise((resolve) => setTimeout(resolve, 100 + Math.random() * 300))
    }
  } finally {
    await rm(folder, { recursive: true, force: true })
  }
}

/** All that the utility is told, apart from its command line; names never become options or connection strings. */
async function environmentOf(
  access: PostgresAccess,
  database: string,
  { superuser, encoding }: DumpOptions,
  folder: string,
): Promise<Record<string, string>> {
  const { host, port, user, tls, authority } = access.settings
  const environment = {
    PGHOST: host,
    PGPORT: String(port),
    PGUSER: user,
    PGDATABASE: database,
    PGPASSWORD: access.password,
    PGCONNECT_TIMEOUT: '10',
    PGCLIENTENCODING: encoding,
    PGAPPNAME: 'unbroken-vessel',
    PGOPTIONS: `${SESSION_OPTIONS}${superuser ? ' -c deadlock_timeout=50ms' : ''}`,
  }
  if (tls === 'off') return { ...environment, PGSSLMODE: 'disable' }
  if (tls === 'required') return { ...environment, PGSSLMODE: 'require' }
  // It trusts exactly whom the driver trusts.
  const trusted = join(folder, 'authority.pem')
  await writeFile(trusted, authority ?? rootCertificates.join('\n'), { mode: 0o600 })
  return { ...environment, PGSSLMODE: 'verify-full', PGSSLROOTCERT: trusted }
}

async function dumpOnce(
  utilities: Utilities,
  environment: Record<string, string>,
  { snapshot, without, signal }: DumpOptions,
): Promise<{ text: string; complaint: string } | { text: null; complaint: string }> {
  const args = ['--schema-only', '--format=custom', `--lock-wait-timeout=${DUMP_LOCK_WAIT}`, '--no-password']
  if (snapshot) args.push(`--snapshot=${snapshot}`)
  for (const pattern of without ?? []) args.push(`--exclude-table=${pattern}`)
  const dump = startProgram(utilities.dump, args, { environment, stdio: ['ignore', 'pipe', 'pipe'], signal })
  const print = startProgram(utilities.restore, ['--verbose', '--file=-'], { stdio: ['pipe', 'pipe', 'ignore'] })
  dump.stdout!.pipe(print.stdin!)
  // It ends early when the dump fails; that is told by the dump.
  print.stdin!.on('error', () => undefined)
  const complaints: Buffer[] = []
  dump.stderr!.on('data', (part: Buffer) => complaints.push(part))
  const [code, text] = await Promise.all([
    new Promise<number | null>((resolve, reject) => dump.on('error', reject).on('close', resolve)),
    collect(print).catch((error: Error) => error),
  ])
  const complaint = Buffer.concat(complaints).toString().trim()
  if (code === 0 && typeof text === 'string') return { text, complaint }
  return { text: null, complaint: complaint || String(text) }
}

/** Whether a reading of the structure failed because it was changed beside it, so that it can be begun again. */
export const hasMoved = (error: unknown): boolean => error instanceof VesselError && error.code === 'structure_moved'

function dumpFailed(database: string, complaint: string): VesselError {
  const moved = MOVED.test(complaint)
  return new VesselError(moved ? 'structure_moved' : 'structure_dump_failed', {
    what: `The server’s dump utility could not read the structure of ${database}: ${complaint}`,
    touched: 'Nothing was changed.',
    next: moved
      ? 'Its structure was being changed at that moment: run it again.'
      : HELD.test(complaint)
        ? 'Somebody holds a table; look into pg_stat_activity for who it is, then run it again.'
        : 'Mend what it complains about; then run it again.',
  })
}

function tooOld(access: PostgresAccess, version: number): VesselError {
  return new VesselError('utilities_too_old', {
    what: `${access.name} is PostgreSQL ${version}, and no dump utility of that version or newer is installed here.`,
    touched: 'Nothing was changed.',
    next: `Install the package postgresql-client-${version} on the machine that runs Unbroken Vessel.`,
  })
}
