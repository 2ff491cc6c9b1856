import { spawn } from 'node:child_process'
import { chmodSync, cpSync, mkdtempSync, openSync, readFileSync, rmSync, symlinkSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import type { TestProject } from 'vitest/node'
import { freePort, PostgresServer } from '../../demo/postgres-server'

declare module 'vitest' {
  interface ProvidedContext {
    url: string
    serverLog: string
  }
}

const root = process.cwd()

/** A built checkout can be moved: all that it needs to run is found from where it lies now. */
function movedCheckout(folder: string): string {
  const moved = join(folder, 'moved')
  for (const built of ['.output', 'dist']) cpSync(join(root, built), join(moved, built), { recursive: true })
  symlinkSync(join(root, 'node_modules'), join(moved, 'node_modules'))
  return moved
}

/** The built application with an empty catalog, and beside it a server with the database "bookings" of the demo. */
export default async function setup(project: TestProject) {
  const folder = mkdtempSync(join(tmpdir(), 'vessel-e2e-'))
  chmodSync(folder, 0o755)
  const [port, web] = [await freePort(), await freePort()]
  const password = 'harbour wall'
  const server = new PostgresServer({
    folder: join(folder, 'server'),
    port,
    password,
    settings: { wal_level: 'logical', fsync: 'off', max_connections: '80' },
  })
  server.create()
  server.start()
  const sql = (name: string) => readFileSync(join(root, 'demo', 'sql', `${name}.sql`), 'utf8')
  server.psql(
    'postgres',
    `${sql('roles')} create database vessel; create database bookings owner ferry_app; create database crewing owner crew_office;`,
  )
  for (const database of ['bookings', 'crewing'])
    server.psql(database, `set demo.start = '2026-11-01T00:00:00Z'; ${sql(database)} analyze;`)
  const checkout = movedCheckout(folder)
  const log = join(folder, 'web.log')
  const out = openSync(log, 'w')
  const application = spawn(process.execPath, ['.output/server/index.mjs'], {
    cwd: checkout,
    stdio: ['ignore', out, out],
    env: {
      ...process.env,
      NITRO_HOST: '127.0.0.1',
      NITRO_PORT: String(web),
      VESSEL_CATALOG: server.url('vessel'),
      VESSEL_ROOT: checkout,
      VESSEL_MASTER_KEY_FILE: join(folder, 'master.key'),
      VESSEL_WORKER: 'alone',
    },
  })
  const url = `http://127.0.0.1:${web}`
  await answering(`${url}/api/watch`)
  project.provide('url', url)
  project.provide('serverLog', log)
  project.provide('folder', folder)
  project.provide('port', port)
  project.provide('password', password)
  return async () => {
    const ended = new Promise((resolve) => application.once('exit', resolve))
    application.kill('SIGTERM')
    await ended
    server.remove()
    rmSync(folder, { recursive: true, force: true })
  }
}

async function answering(url: string): Promise<void> {
  const until = Date.now() + 60_000
  for (;;) {
    const answer = await fetch(url).catch(() => undefined)
    if (answer?.ok) return
    if (Date.now() > until) throw new Error(`the application did not answer at ${url}`)
    await new Promise((resolve) => setTimeout(resolve, 200))
  }
}
