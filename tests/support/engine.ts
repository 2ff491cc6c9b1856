import { mkdirSync } from 'node:fs'
import { join } from 'node:path'
import { randomUUID } from 'node:crypto'
import { inject } from 'vitest'
import { PostgresServer } from '../../demo/postgres-server'
import { wishOf, type Wish } from '../../core/restore/wish'
import type { LogPlan } from '../../core/plan/definition'
import type { RunKind } from '../../engine/catalog/types'
import { addRun, requestCancel } from '../../engine/catalog/runs'
import { addSource } from '../../engine/catalog/sources'
import { addStore } from '../../engine/catalog/stores'
import { addVessel, type Vessel } from '../../engine/catalog/vessels'
import { Engine } from '../../engine/engine'
import type { Allowed } from '../../engine/holds/outside'
import { perform } from '../../engine/runs/runner'

/** The server that all tests of a file share. */
export function testServer(): PostgresServer {
  return new PostgresServer({ folder: join(inject('folder'), 'server'), port: inject('port'), password: inject('password') })
}

/** Whether a follower reads the log of a database. */
export const isFollowed = (server: PostgresServer, database: string): boolean =>
  server.psql('postgres', `select exists (select from pg_replication_slots where active and database = '${database}')`) === 't'

/** Drops what followers of a database left at the server; it allows only a few of them at a time. */
export function dropSlots(server: PostgresServer, database: string): void {
  const ofDatabase = `database = '${database}' and not active`
  server.psql('postgres', `select pg_drop_replication_slot(slot_name) from pg_replication_slots where ${ofDatabase}`)
}

/** An engine with a catalog, a store and a source of its own; runs are done in this process, one by one. */
export class Workbench {
  private constructor(
    readonly engine: Engine,
    readonly server: PostgresServer,
    readonly database: string,
    readonly place: string,
    /** What a worker of its own needs to work on the same catalog. */
    readonly environment: Record<string, string>,
  ) {}

  static async open(sql = '', hooks?: Allowed): Promise<Workbench> {
    const server = testServer()
    const tag = randomUUID().slice(0, 8)
    const [catalog, database] = [`catalog_${tag}`, `source_${tag}`]
    server.psql('postgres', `create database ${catalog}; create database ${database};`)
    if (sql) server.psql(database, sql)
    const folder = join(inject('folder'), tag)
    mkdirSync(folder, { recursive: true })
    const masterKeyFile = join(folder, 'master.key')
    const engine = await Engine.start({ catalog: server.url(catalog), root: process.cwd(), masterKeyFile, hooks })
    const environment = { VESSEL_CATALOG: server.url(catalog), VESSEL_ROOT: process.cwd(), VESSEL_MASTER_KEY_FILE: masterKeyFile }
    const bench = new Workbench(engine, server, database, join(folder, 'dry-dock'), environment)
    await addStore(engine, { name: 'dry-dock', path: bench.place })
    await addSource(engine, { name: 'db', password: inject('password'), settings: bench.settings })
    return bench
  }

  get settings() {
    return { host: '127.0.0.1', port: this.server.port, user: 'postgres', database: 'postgres', tls: 'off' as const }
  }

  path(...names: string[]): string {
    return ['db', this.database, ...names].join('/')
  }

  sql(text: string): string {
    return this.server.psql(this.database, text)
  }

  vessel(name = 'Bookings', patterns: string[] = [this.path()], readers = 2, log?: LogPlan): Promise<Vessel> {
    return addVessel(this.engine, name, {
      rules: patterns.map((pattern, i) => ({
        id: String(i),
        act: pattern.startsWith('!') ? 'leave' : 'take',
        pattern: pattern.replace(/^!/, ''),
        kind: ({ 2: 'database', 3: 'schema', 4: 'thing' } as const)[pattern.split('/').length as 2 | 3 | 4],
      })),
      store: 'dry-dock',
      promises: { couldLose: null, backWithin: null },
      readers,
      ...(log ? { log } : {}),
    })
  }

  /** Does a run to its end and returns its record. */
  async run(kind: RunKind, vessel: Vessel, params: Record<string, unknown> = {}) {
    const id = await addRun(this.engine, { kind, vessel, startedBy: 'a test', params })
    while ((await perform(this.engine, id)) === 'later') await new Promise((resolve) => setTimeout(resolve, 100))
    return this.record(id)
  }

  record(id: string) {
    return this.engine.db.selectFrom('run').selectAll().where('id', '=', id).executeTakeFirstOrThrow()
  }

  /** Backs up and returns the point; fails the test when there is none. */
  async backup(vessel: Vessel, what = 'full'): Promise<string> {
    const run = await this.run('backup', vessel, { what })
    if (run.outcome === null) throw new Error(`no point: ${JSON.stringify(run.error)}`)
    return (run.outcome as { point: string }).point
  }

  async restore(vessel: Vessel, point: string, wish: Partial<Wish>, kind: 'restore' | 'rehearsal' = 'restore') {
    const full = wishOf({ picks: [this.path()], ...wish })
    const run = await this.run(kind, vessel, { point, wish: full, reason: 'a test' })
    const receipts = await this.engine.db.selectFrom('receipt').selectAll().where('run_id', '=', run.id).orderBy('ordinal').execute()
    return { run, receipts }
  }

  /** Does a run, and something else as soon as a step of it runs; tells whether that came about. */
  async performUntil(id: string, step: { title: string } | { kind: string }, act: () => unknown): Promise<boolean> {
    const [[column, value]] = Object.entries(step) as [['title' | 'kind', string]]
    let acted = false
    const look = async () => {
      const found = await this.engine.db
        .selectFrom('run_step')
        .select('state')
        .where('run_id', '=', id)
        .where(column, '=', value)
        .executeTakeFirst()
      if (acted || found?.state !== 'running') return
      acted = true
      await act()
    }
    this.engine.changes.on('change', look)
    await perform(this.engine, id)
    this.engine.changes.off('change', look)
    return acted
  }

  /** A restore that is cancelled as soon as the step of a table runs. */
  async restoreCancelled(vessel: Vessel, point: string, wish: Partial<Wish>, title: string) {
    const params = { point, wish: wishOf({ picks: [this.path()], ...wish }), reason: 'a test' }
    const id = await addRun(this.engine, { kind: 'restore', vessel, startedBy: 'a test', params })
    await this.performUntil(id, { title }, () => requestCancel(this.engine, id))
    const receipts = await this.engine.db.selectFrom('receipt').selectAll().where('run_id', '=', id).execute()
    return { run: await this.record(id), receipts }
  }

  async messages(runId: string): Promise<string[]> {
    const rows = await this.engine.db.selectFrom('run_message').select('text').where('run_id', '=', runId).orderBy('id').execute()
    return rows.map((row) => row.text)
  }

  async close(): Promise<void> {
    await this.engine.close()
  }
}

/** Does work as a user whom file rights bind; root is bound by none. */
export async function asUnprivileged<T>(work: () => Promise<T>): Promise<T> {
  if (process.getuid?.() !== 0) return work()
  process.seteuid!('nobody')
  try {
    return await work()
  } finally {
    process.seteuid!(0)
  }
}

interface Told {
  path: string
  outcome: string
  reason: string | null
  equal: boolean | null
  left_parts: unknown[]
}

/** The lines of a receipt that say something is not as it was. */
export function unwell(receipts: Told[]): unknown[][] {
  return receipts
    .filter(
      ({ outcome, equal, left_parts: left }) =>
        outcome === 'failed' || (outcome === 'left' && !equal) || equal === false || left.length > 0,
    )
    .map(({ path, outcome, reason, left_parts: left }) => [path, outcome, reason, ...left])
}
