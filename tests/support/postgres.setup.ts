import { tmpdir } from 'node:os'
import { mkdtempSync, chmodSync, rmSync } from 'node:fs'
import { join } from 'node:path'
import type { TestProject } from 'vitest/node'
import { freePort, PostgresServer } from '../../demo/postgres-server'
// @ts-expect-error a build script without types
import { buildEngine } from '../../scripts/build-engine.mjs'

declare module 'vitest' {
  interface ProvidedContext {
    folder: string
    port: number
    password: string
  }
}

/** One PostgreSQL server for all integration tests: the catalog's databases and the sources are on it. */
export default async function setup(project: TestProject) {
  // Where several go at once, it was built before.
  if (!process.env.VESSEL_BUILT) await buildEngine()
  const folder = mkdtempSync(join(tmpdir(), 'vessel-test-'))
  chmodSync(folder, 0o755)
  const options = { folder: join(folder, 'server'), port: await freePort(), password: 'harbour wall' }
  const server = new PostgresServer({
    ...options,
    settings: { wal_level: 'logical', fsync: 'off', max_connections: '80', shared_buffers: '256MB' },
  })
  server.create()
  server.start()
  project.provide('folder', folder)
  project.provide('port', options.port)
  project.provide('password', options.password)
  return () => {
    server.remove()
    rmSync(folder, { recursive: true, force: true })
  }
}
