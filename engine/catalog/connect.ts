import { Kysely, Migrator, PostgresDialect, type MigrationProvider } from 'kysely'
import pg from 'pg'
import * as first from './migrations/001-first'
import * as scratch from './migrations/002-scratch'
import * as log from './migrations/003-log'
import * as holds from './migrations/004-holds'
import * as holes from './migrations/005-holes'
import * as audits from './migrations/006-audits'
import * as claims from './migrations/007-claims'
import * as damage from './migrations/008-damage'
import * as leases from './migrations/009-leases'
import * as announced from './migrations/010-announced-files'
import * as duties from './migrations/011-duties'
import * as waitsFor from './migrations/012-waits-for'
import * as letGo from './migrations/013-let-go'
import * as losses from './migrations/014-losses'
import * as pace from './migrations/015-pace'
import * as choices from './migrations/016-choices'
import * as countedLosses from './migrations/017-counted-losses'
import * as quiesce from './migrations/018-quiesce'
import * as compared from './migrations/019-compared'
import * as plans from './migrations/020-plans'
import * as pauses from './migrations/021-pauses'
import * as retention from './migrations/022-retention'
import * as prices from './migrations/023-prices'
import * as widerPauses from './migrations/024-wider-pauses'
import * as gone from './migrations/025-gone'
import * as atOnce from './migrations/026-at-once'
import * as defaultPlan from './migrations/027-default-plan'
import { tellsBrokenConnection } from '../broken-connection'
import { tryAgain } from '../try-again'
import type { Catalog } from './types'

/** Migrations in their order. A migration that has run anywhere is never changed. */
const migrations: MigrationProvider = {
  getMigrations: async () => ({
    '001-first': first,
    '002-scratch': scratch,
    '003-log': log,
    '004-holds': holds,
    '005-holes': holes,
    '006-audits': audits,
    '007-claims': claims,
    '008-damage': damage,
    '009-leases': leases,
    '010-announced-files': announced,
    '011-duties': duties,
    '012-waits-for': waitsFor,
    '013-let-go': letGo,
    '014-losses': losses,
    '015-pace': pace,
    '016-choices': choices,
    '017-counted-losses': countedLosses,
    '018-quiesce': quiesce,
    '019-compared': compared,
    '020-plans': plans,
    '021-pauses': pauses,
    '022-retention': retention,
    '023-prices': prices,
    '024-wider-pauses': widerPauses,
    '025-gone': gone,
    '026-at-once': atOnce,
    '027-default-plan': defaultPlan,
  }),
}

export type CatalogDb = Kysely<Catalog>

// bigint as number: counts and sizes of the catalog stay far below 2^53.
const types = new pg.TypeOverrides()
types.setTypeParser(pg.types.builtins.INT8, Number)

export function openCatalog(connectionString: string): { db: CatalogDb; pool: pg.Pool } {
  const pool = new pg.Pool({ connectionString, max: 8, types, application_name: 'unbroken-vessel' })
  // A server that restarts breaks idle connections; the pool opens new ones when they are needed.
  // One that is lent out tells its own error to whoever has it, by the next query.
  pool.on('connect', (client) => client.on('error', () => undefined))
  pool.on('error', (error) => console.warn(`catalog: an idle connection was lost (${error.message})`))
  return { db: new Kysely<Catalog>({ dialect: new PostgresDialect({ pool }) }), pool }
}

/**
 * Brings the catalog to the newest version, or to the one that is named. Safe to call from several processes at once.
 *
 * @throws what the catalog refused; nothing of the migrations is kept then
 */
export async function migrate(db: CatalogDb, to?: string): Promise<void> {
  const migrator = new Migrator({ db, provider: migrations })
  const { error } = to === undefined ? await migrator.migrateToLatest() : await migrator.migrateTo(to)
  if (error) throw error
}

/** Whether the catalog did not answer, so that the same may succeed later. A server that refuses has answered. */
export const isAway = (error: unknown): boolean => {
  const { code = '', message = '' } = error as { code?: string; message?: string }
  return (
    /^(ECONN\w+|EPIPE|ETIMEDOUT|EHOSTUNREACH|ENETUNREACH|08\w{3}|57P0[123])$/.test(code) ||
    tellsBrokenConnection(message) ||
    /timeout exceeded when trying to connect|not currently accepting connections/.test(message)
  )
}

const AGAIN_MS = 1000
const PATIENCE_MS = 10 * 60_000

/** Does something at the catalog that may be done twice; while it is away it is tried again, for some minutes. */
export const patiently = <T>(work: () => Promise<T>): Promise<T> =>
  tryAgain(work, { isWorth: isAway, pause: () => new Promise((resolve) => setTimeout(resolve, AGAIN_MS)), patienceMs: PATIENCE_MS })

/**
 * Waits for a transaction of the catalog. Where the connection broke before the answer came, the catalog knows what
 * became of it.
 *
 * @param isThere finds what only the transaction has written
 */
export async function committedSurely(commit: Promise<void>, isThere: () => Promise<unknown>): Promise<void> {
  try {
    await commit
  } catch (error) {
    if (!isAway(error) || !(await patiently(isThere))) throw error
  }
}
