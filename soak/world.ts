import { spawn, type ChildProcess } from 'node:child_process'
import { mkdirSync, mkdtempSync, chmodSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { defaultLog } from '../core/plan/definition'
import type { Schedule } from '../core/plan/schedule'
import { wishOf, type Wish } from '../core/restore/wish'
import { freePort, PostgresServer } from '../demo/postgres-server'
import { addSource } from '../engine/catalog/sources'
import { addStore } from '../engine/catalog/stores'
import { addVessel, type Vessel } from '../engine/catalog/vessels'
import { Engine } from '../engine/engine'
import { Harbour } from './harbour'
import { pause, SCHEMA_SQL, TABLES, type State } from './application'

export const DATABASE = 'town'
const WORKERS = 3

/** Due beside everything that goes wrong. */
const everyMinute = (): Schedule => ({
  zone: 'UTC',
  from: new Date(Date.now() + 10_000).toISOString(),
  lines: [
    {
      id: 'minutely',
      name: 'minutely',
      times: { kind: 'every', count: 1, unit: 'minutes' },
      makes: { kind: 'cycle', points: 4, first: 'full', rest: 'differential' },
    },
  ],
  meanwhile: 'wait',
})

async function serverIn(folder: string): Promise<PostgresServer> {
  const settings = { wal_level: 'logical', fsync: 'off', max_connections: '100' }
  const server = new PostgresServer({ folder, port: await freePort(), password: 'soaked through', settings })
  server.create()
  server.start()
  return server
}

/** A catalog, a source, a store, three workers and a vessel whose log is followed; all on loopback, in a folder of its own. */
export class World {
  readonly workers: ChildProcess[] = []

  private constructor(
    readonly folder: string,
    readonly catalog: PostgresServer,
    readonly source: PostgresServer,
    readonly engine: Engine,
    readonly vessel: Vessel,
    /** A cluster beside, where there is time for it. */
    readonly harbour: Harbour | null,
    private readonly environment: Record<string, string>,
  ) {}

  static async make(withCluster: boolean): Promise<World> {
    const folder = mkdtempSync(join(tmpdir(), 'vessel-soak-'))
    chmodSync(folder, 0o755)
    const catalog = await serverIn(join(folder, 'catalog'))
    const source = await serverIn(join(folder, 'source'))
    catalog.psql('postgres', 'create database catalog')
    source.psql('postgres', `create database ${DATABASE}`)
    source.psql(DATABASE, SCHEMA_SQL)
    mkdirSync(join(folder, 'store'))
    const masterKeyFile = join(folder, 'master.key')
    const engine = await Engine.start({ catalog: catalog.url('catalog'), root: process.cwd(), masterKeyFile })
    await addStore(engine, { name: 'dry-dock', path: join(folder, 'store') })
    const settings = { host: '127.0.0.1', port: source.port, user: 'postgres', database: 'postgres', tls: 'off' as const }
    await addSource(engine, { name: 'db', password: 'soaked through', settings })
    const vessel = await addVessel(engine, 'Town', {
      rules: [{ id: 'app', act: 'take', kind: 'schema', pattern: `db/${DATABASE}/app` }],
      store: 'dry-dock',
      promises: { couldLose: null, backWithin: null },
      readers: 2,
      log: defaultLog(true),
      schedule: everyMinute(),
    })
    const environment = {
      VESSEL_CATALOG: catalog.url('catalog'),
      VESSEL_ROOT: process.cwd(),
      VESSEL_MASTER_KEY_FILE: masterKeyFile,
      VESSEL_DRAIN_SECONDS: '5',
    }
    const harbour = withCluster ? await Harbour.make(join(folder, 'pier'), engine) : null
    const world = new World(folder, catalog, source, engine, vessel, harbour, environment)
    for (let i = 0; i < WORKERS; i++) world.startWorker(i)
    return world
  }

  /** A worker that ends by itself while the catalog is away is started again, as whoever runs it would. */
  startWorker(i: number): void {
    const child = spawn('node', ['dist/worker.mjs'], { env: { ...process.env, ...this.environment }, stdio: 'ignore' })
    this.workers[i] = child
    child.on('exit', () => {
      if (!this.isClosing && this.workers[i] === child) setTimeout(() => this.isClosing || this.startWorker(i), 500)
    })
  }

  private isClosing = false

  async stopWorkers(): Promise<void> {
    this.isClosing = true
    await Promise.all(
      this.workers.map((child) => {
        child.kill('SIGCONT')
        const gone = new Promise((resolve) => child.once('exit', resolve))
        child.kill('SIGTERM')
        return child.exitCode !== null || child.signalCode !== null
          ? null
          : Promise.race([gone, pause(40_000).then(() => child.kill('SIGKILL'))])
      }),
    )
  }

  async close(): Promise<void> {
    await this.stopWorkers()
    await this.engine.close()
    await this.harbour?.close()
    this.source.remove()
    this.catalog.remove()
  }

  restore(ref: string, wish: Partial<Wish>): Promise<string> {
    const full = wishOf({ picks: [`db/${DATABASE}`], ...wish })
    return this.engine.startRun({
      kind: 'restore',
      vessel: this.vessel,
      startedBy: 'the soak',
      params: { point: ref, wish: full, reason: 'a soak' },
    })
  }

  async run(id: string) {
    return this.engine.db.selectFrom('run').selectAll().where('id', '=', id).executeTakeFirstOrThrow()
  }

  /** Until a run is over. */
  async over(id: string, withinMs = 180_000) {
    for (const end = Date.now() + withinMs; Date.now() < end; await pause(200)) {
      const run = await this.run(id)
      if (run.state !== 'waiting' && run.state !== 'running') return run
    }
    throw new Error(`the run ${id} is not over: ${JSON.stringify(await this.run(id))}`)
  }

  /** The tables of the application in a database, as COPY writes their rows. */
  state(database: string): State {
    const rowsOf = (table: string) => this.source.psql(database, `copy app.${table} to stdout`).split('\n').filter(Boolean)
    return new Map(TABLES.map((table) => [table, new Map(rowsOf(table).map((row) => [row.split('\t')[0]!, row]))]))
  }
}
