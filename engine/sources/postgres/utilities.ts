import { spawn } from 'node:child_process'
import { access as accessible, readdir } from 'node:fs/promises'
import { delimiter, join } from 'node:path'
import type pg from 'pg'
import { VesselError } from '../../../core/errors'
import { parseStructure, type StructureEntry } from '../../../core/restore/structure'
import type { PostgresAccess } from './connect'
import { describeOwnership } from './describe'
import { OURS } from './log/install'

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
  const text = await collect(spawn(program, ['--version'], { stdio: ['ignore', 'pipe', 'ignore'] })).catch(() => '')
  const match = /\) (\d+)/.exec(text)
  return match ? Number(match[1]) : undefined
}

async function collect(child: ReturnType<typeof spawn>): Promise<string> {
  const parts: Buffer[] = []
  child.stdout!.on('data', (part: Buffer) => parts.push(part))
  const code = await new Promise<number | null>((resolve, reject) => child.on('error', reject).on('close', resolve))
  if (code !== 0) throw new Error(`it ended with ${code}`)
  return Buffer.concat(parts).toString()
}

/** The structure of a database, with what each entry belongs to. `client` is a connection to that database. */
export async function readStructure(
  access: PostgresAccess,
  database: string,
  client: pg.Client,
  options: { snapshot?: string; without?: string[]; signal?: AbortSignal } = {},
): Promise<StructureEntry[]> {
  const { rows } = await client.query<{ version: number }>(`select current_setting('server_version_num')::int / 10000 as version`)
  const text = await dumpStructure(access, database, { ...options, serverVersion: rows[0]!.version })
  const ownership = await describeOwnership(client)
  const entries = parseStructure(text).filter((entry) => !isOurs(entry))
  return entries.map((entry) => ({ ...entry, ...ownership.get(`${entry.catalog}/${entry.oid}`) }))
}

const NAMED_OURS = new RegExp(`(^|SCHEMA |TRIGGER |PUBLICATION )"?${OURS}`)

/** What following the log has put there is no part of the database. */
const isOurs = ({ schema, name, type }: StructureEntry) =>
  schema === OURS || (schema === null && NAMED_OURS.test(name)) || (type.startsWith('PUBLICATION') && name.startsWith(OURS))

/**
 * The structure of a database as the server's dump utility writes it, seen through an exported snapshot: the
 * archive goes through its counterpart, which prints what each entry needs. `without` are tables that may not
 * be read. The utility runs without a shell and gets the password by its environment.
 */
async function dumpStructure(
  access: PostgresAccess,
  database: string,
  options: { serverVersion: number; snapshot?: string; without?: string[]; signal?: AbortSignal },
): Promise<string> {
  const utilities = (await findUtilities()).find(({ version }) => version >= options.serverVersion)
  if (!utilities) throw tooOld(access, options.serverVersion)
  const { host, port, user, tls } = access.settings
  const env = {
    ...process.env,
    PGPASSWORD: access.password,
    PGCONNECT_TIMEOUT: '10',
    PGSSLMODE: tls === 'off' ? 'disable' : 'require',
    PGOPTIONS: '-c statement_timeout=0',
    LC_ALL: 'C',
  }
  const args = [
    '--schema-only',
    '--format=custom',
    '--lock-wait-timeout=30s',
    `--host=${host}`,
    `--port=${port}`,
    `--username=${user}`,
    '--no-password',
  ]
  if (options.snapshot) args.push(`--snapshot=${options.snapshot}`)
  for (const pattern of options.without ?? []) args.push(`--exclude-table=${pattern}`)
  const dump = spawn(utilities.dump, [...args, database], { env, stdio: ['ignore', 'pipe', 'pipe'], signal: options.signal })
  const print = spawn(utilities.restore, ['--verbose', '--file=-'], { env: { LC_ALL: 'C' }, stdio: ['pipe', 'pipe', 'ignore'] })
  dump.stdout.pipe(print.stdin)
  // It ends early when the dump fails; that is told by the dump.
  print.stdin.on('error', () => undefined)
  const complaint: Buffer[] = []
  dump.stderr.on('data', (part: Buffer) => complaint.push(part))
  const [code, text] = await Promise.all([
    new Promise<number | null>((resolve, reject) => dump.on('error', reject).on('close', resolve)),
    collect(print).catch((error: Error) => error),
  ])
  if (code === 0 && typeof text === 'string') return text
  throw new VesselError('structure_dump_failed', {
    what: `The server’s dump utility could not read the structure of ${database}: ${Buffer.concat(complaint).toString().trim() || String(text)}`,
    touched: 'Nothing was changed.',
    next: 'Mend what it complains about; then run it again.',
  })
}

function tooOld(access: PostgresAccess, version: number): VesselError {
  return new VesselError('utilities_too_old', {
    what: `${access.name} is PostgreSQL ${version}, and no dump utility of that version or newer is installed here.`,
    touched: 'Nothing was changed.',
    next: `Install the package postgresql-client-${version} on the machine that runs Unbroken Vessel.`,
  })
}
