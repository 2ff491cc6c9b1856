import { chmodSync, mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import type { TestProject } from 'vitest/node'
import { freePort, PostgresServer } from '../../demo/postgres-server'
import { Application } from './application'

declare module 'vitest' {
  interface ProvidedContext {
    url: string
    serverLog: string
  }
}

const root = process.cwd()

/** The built application with an empty catalog, and beside it a server with the database "bookings" of the demo. */
export default async function setup(project: TestProject) {
  const folder = mkdtempSync(join(tmpdir(), 'vessel-e2e-'))
  chmodSync(folder, 0o755)
  const port = await freePort()
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
  const application = await Application.start(folder, server.url('vessel'))
  project.provide('url', application.url)
  project.provide('serverLog', application.log)
  project.provide('folder', folder)
  project.provide('port', port)
  project.provide('password', password)
  return async () => {
    await application.stop()
    server.remove()
    rmSync(folder, { recursive: true, force: true })
  }
}
