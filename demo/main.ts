import { spawn, type ChildProcess } from 'node:child_process'
import { createHash } from 'node:crypto'
import { existsSync, mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { connect } from 'node:net'
import { join } from 'node:path'
import pg from 'pg'
import { STORE_VERSION } from '../engine/catalog/stores'
import { Engine } from '../engine/engine'
import { DemoClusters } from './clusters'
import { makeHistory, ScenarioClock } from './history'
import { PostgresServer } from './postgres-server'
import { sellTickets, takeShifts } from './traffic'

// The demo: a catalog, the database server ferry-db with its history, two clusters, the application, and traffic.

const root = process.cwd()
const asRoot = process.getuid?.() === 0
// As root the servers run as `postgres`, who cannot reach a checkout that lies in somebody's home.
const home = asRoot ? join('/var/tmp/unbroken-vessel', createHash('sha256').update(root).digest('hex').slice(0, 10)) : join(root, '.demo')
const folder = process.env.DEMO_FOLDER ?? home
// Below those that a machine gives to outgoing connections, which may have any of them at any time.
const ports = {
  web: Number(process.env.DEMO_PORT ?? 3210),
  catalog: Number(process.env.DEMO_CATALOG_PORT ?? 3211),
  harbour: Number(process.env.DEMO_HARBOUR_PORT ?? 3212),
  pier: Number(process.env.DEMO_PIER_PORT ?? 3213),
  islet: Number(process.env.DEMO_ISLET_PORT ?? 3214),
}
const PASSWORDS = { catalog: 'catalog of the demo', admin: 'harbour master', keeper: 'keeper of the vessel' }
const files = {
  // What an earlier form of stores holds can't be read any more, so it is made anew.
  done: join(folder, `history-is-made-${STORE_VERSION}`),
  web: join(folder, 'web.pid'),
  key: join(folder, 'master.key'),
  store: join(folder, 'dry-dock'),
}

// The demo's servers do not wait for the disk: whatever is killed, the system still writes what it was given.
const QUICK = { fsync: 'off', synchronous_commit: 'off' }
const catalog = new PostgresServer({ folder: join(folder, 'catalog'), port: ports.catalog, password: PASSWORDS.catalog, settings: QUICK })
const harbour = new PostgresServer({
  folder: join(folder, 'ferry-db'),
  port: ports.harbour,
  password: PASSWORDS.admin,
  settings: { ...QUICK, wal_level: 'logical', max_connections: '60', shared_buffers: '256MB', max_wal_size: '2GB' },
})

const clusters = new DemoClusters(root, folder, ports)

async function main(): Promise<void> {
  if (process.argv.includes('--stop')) return stopAll()
  stopWeb()
  if (process.argv.includes('--fresh') || !existsSync(files.done)) await makeAll()
  else await startServers()
  const web = startWeb()
  await answers(web)
  void trade()
  console.log(`\nUnbroken Vessel is open at http://127.0.0.1:${ports.web}\n`)
  console.log(`Try it: drop a table, and bring it back.`)
  console.log(`  psql "${harbour.url('bookings')}" -c 'drop table sales.booking_leg cascade'\n`)
  console.log('Ctrl C stops the demo. bin/demo --fresh makes it anew.')
  const stop = () => {
    web.kill('SIGTERM')
    stopAll()
    void clusters.stop().finally(() => process.exit(0))
  }
  process.on('SIGINT', stop).on('SIGTERM', stop)
}

function stopAll(): void {
  stopWeb()
  catalog.stop()
  harbour.stop()
}

/** An earlier demo that was killed may have left its web server behind. */
function stopWeb(): void {
  if (!existsSync(files.web)) return
  const pid = Number(readFileSync(files.web, 'utf8'))
  try {
    if (readFileSync(`/proc/${pid}/cmdline`, 'utf8').includes('.output/server/index.mjs')) process.kill(pid, 'SIGKILL')
  } catch {
    // It has gone by itself.
  }
  rmSync(files.web, { force: true })
}

async function startServers(): Promise<void> {
  mkdirSync(folder, { recursive: true, mode: 0o755 })
  for (const server of [catalog, harbour]) {
    server.create()
    server.start()
  }
  await clusters.start()
}

async function makeAll(): Promise<void> {
  console.log('Making the demo: two databases, two clusters and three weeks of history. This is done once.')
  for (const server of [catalog, harbour]) server.remove()
  rmSync(folder, { recursive: true, force: true })
  await startServers()
  const now = new Date()
  await makeData(new Date(now.getTime() - 21 * 86_400_000))
  catalog.psql('postgres', 'create database vessel')
  const clock = new ScenarioClock()
  const engine = await Engine.start({ catalog: catalog.url('vessel'), root, masterKeyFile: files.key, clock })
  try {
    await makeHistory(
      {
        engine,
        clock,
        store: files.store,
        say: (text) => console.log(`  ${text}`),
        harbour: { host: '127.0.0.1', port: ports.harbour, user: 'vessel_keeper', password: PASSWORDS.keeper },
        changePassword: (to) => void harbour.psql('postgres', `alter role vessel_keeper password '${to}'`),
      },
      now,
    )
    await clusters.furnish(engine)
    await clusters.protect(engine, clock, now)
    await clusters.loseKiosks(engine)
  } finally {
    await engine.close()
  }
  writeFileSync(files.done, now.toISOString())
}

async function makeData(start: Date): Promise<void> {
  const sql = (name: string) => readFileSync(join(root, 'demo', 'sql', `${name}.sql`), 'utf8')
  harbour.psql('postgres', sql('roles'))
  harbour.psql('postgres', `create role vessel_keeper login superuser replication password '${PASSWORDS.keeper}'`)
  const owners = { bookings: 'ferry_app', crewing: 'crew_office' }
  for (const [database, owner] of Object.entries(owners)) harbour.psql('postgres', `create database ${database} owner ${owner}`)
  await Promise.all(
    Object.keys(owners).map((database) => harbour.load(database, `set demo.start = '${start.toISOString()}'; ${sql(database)} analyze;`)),
  )
}

function startWeb(): ChildProcess {
  const web = spawn(process.execPath, ['.output/server/index.mjs'], {
    cwd: root,
    stdio: ['ignore', 'inherit', 'inherit'],
    env: {
      ...process.env,
      HOST: '127.0.0.1',
      PORT: String(ports.web),
      NITRO_HOST: '127.0.0.1',
      NITRO_PORT: String(ports.web),
      VESSEL_CATALOG: catalog.url('vessel'),
      VESSEL_ROOT: root,
      VESSEL_MASTER_KEY_FILE: files.key,
      VESSEL_WORKER: 'alone',
    },
  })
  writeFileSync(files.web, String(web.pid))
  web.on('exit', (code) => {
    if (code) process.exit(code)
  })
  return web
}

async function answers(web: ChildProcess): Promise<void> {
  for (let tries = 0; tries < 300 && web.exitCode === null; tries++) {
    const open = await new Promise<boolean>((resolve) => {
      const socket = connect(ports.web, '127.0.0.1', () => resolve(true))
        .on('error', () => resolve(false))
        .on('close', () => resolve(false))
      socket.unref()
      socket.once('connect', () => socket.end())
    })
    if (open) return
    await new Promise((resolve) => setTimeout(resolve, 100))
  }
  throw new Error(`The application did not open at port ${ports.web}; something else may use it (set DEMO_PORT).`)
}

/** Tickets are sold as long as the demo runs; what a person breaks meanwhile is passed over until it is mended. */
async function trade(): Promise<void> {
  const tick = async (database: string, work: (client: pg.Client) => Promise<void>) => {
    const client = new pg.Client({ connectionString: harbour.url(database), application_name: 'demo traffic' })
    client.on('error', () => undefined)
    try {
      await client.connect()
      await work(client)
    } catch {
      // A table that is gone or locked is what the demo is for.
    } finally {
      await client.end().catch(() => undefined)
    }
  }
  for (;;) {
    await tick('bookings', (client) => sellTickets(client, 3, new Date()))
    await tick('crewing', (client) => takeShifts(client, 1, new Date()))
    await new Promise((resolve) => setTimeout(resolve, 4000))
  }
}

await main()
