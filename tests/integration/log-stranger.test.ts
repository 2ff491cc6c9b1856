import { join } from 'node:path'
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest'
import { freePort, PostgresServer } from '../../demo/postgres-server'
import { linesOf } from '../../core/compare/rows'
import { defaultLog } from '../../core/plan/definition'
import { addSource } from '../../engine/catalog/sources'
import { addVessel, type Vessel } from '../../engine/catalog/vessels'
import { openPoint } from '../../engine/points/open'
import { Workbench } from '../support/engine'

// Another server answers under the same address, and whoever follows its log has not noticed yet: no worker runs here.

let bench: Workbench
let source: PostgresServer
let vessel: Vessel
const member = 'own/shop'

const sql = (text: string) => source.psql('shop', text)
const follower = () => bench.engine.db.selectFrom('follower').selectAll().where('vessel_id', '=', vessel.id).executeTakeFirstOrThrow()
const breaks = () => bench.engine.db.selectFrom('chain_break').selectAll().where('vessel_id', '=', vessel.id).execute()
const systemId = () => sql('select system_identifier from pg_control_system()')
const newestArtifact = () =>
  bench.engine.db
    .selectFrom('artifact')
    .selectAll()
    .where('vessel_id', '=', vessel.id)
    .orderBy('at', 'desc')
    .limit(1)
    .executeTakeFirstOrThrow()

async function rowsOf(point: string): Promise<string[]> {
  const open = await openPoint(bench.engine, point)
  const table = open.members[0]!.manifest.databases[0]!.tables.find(({ name }) => name === 'item')!
  const chunks: Uint8Array[] = []
  for await (const bytes of open.store.readAll(table.chunks.map(({ name }) => name))) chunks.push(bytes)
  return [...linesOf(chunks)].sort()
}

function begin(rows: string): void {
  source.create()
  source.start()
  source.psql('postgres', 'create database shop')
  sql(`create table item (id int primary key, v text); insert into item values ${rows}`)
}

/** Another server in its place, which has written less than the one before. */
function replace(rows: string): void {
  source.remove()
  begin(rows)
}

beforeAll(async () => {
  bench = await Workbench.open()
  const settings = { wal_level: 'logical', fsync: 'off', max_connections: '40' }
  source = new PostgresServer({
    folder: join(inject('folder'), 'stranger'),
    port: await freePort(),
    password: inject('password'),
    settings,
  })
  begin(`(1, 'of the first')`)
  sql(`create table heavy as select g, repeat('x', 500) as t from generate_series(1, 20000) g; drop table heavy`)
  const where = { host: '127.0.0.1', port: source.port, user: 'postgres', database: 'postgres', tls: 'off' as const }
  await addSource(bench.engine, { name: 'own', password: inject('password'), settings: where })
  vessel = await addVessel(bench.engine, 'Shop', {
    rules: [{ id: 'a', act: 'take', kind: 'database', pattern: member }],
    store: 'dry-dock',
    promises: { couldLose: null, backWithin: null },
    readers: 1,
    log: { ...defaultLog(true), structure: 'trigger' },
  })
  await bench.backup(vessel)
})
afterAll(async () => {
  await bench?.close()
  source?.remove()
})

describe('a server that has become another one, before its follower noticed', () => {
  it('is not what a differential goes on from: it is refused, and the break is told', async () => {
    const first = systemId()
    replace(`(2, 'of the second')`)
    expect(systemId()).not.toBe(first)
    const run = await bench.run('backup', vessel, { what: 'differential' })
    expect(run).toMatchObject({ state: 'failed', error: { code: 'no_log', what: expect.stringContaining('another server by now') } })
    expect(await breaks()).toEqual([expect.objectContaining({ kind: 'source', to_at: null })])
    expect((await follower()).state).toBe('broken')
  })

  it('begins a history of its own with a full, which belongs to no other', async () => {
    const point = await bench.backup(vessel)
    expect(await rowsOf(point)).toEqual(['2\tof the second'])
    expect((await newestArtifact()).era).toBe(`${systemId()}/1`)
    expect((await follower()).era).toBe(`${systemId()}/1`)
  })

  it('is read by a full just so when nothing else came upon it', async () => {
    replace(`(3, 'of the third')`)
    const point = await bench.backup(vessel)
    expect(await rowsOf(point)).toEqual(['3\tof the third'])
    expect((await newestArtifact()).era).toBe(`${systemId()}/1`)
    expect((await breaks()).map(({ kind, to_at: end }) => [kind, end !== null])).toEqual([
      ['source', true],
      ['source', true],
    ])
    expect(await follower()).toMatchObject({ state: 'following', era: `${systemId()}/1`, trouble: null })
  })

  it('is audited by nobody: what was followed is of another one', async () => {
    replace(`(4, 'of the fourth')`)
    const run = await bench.run('audit', vessel)
    expect(run.state).toBe('failed')
    expect(await breaks()).toHaveLength(3)
  })
})
