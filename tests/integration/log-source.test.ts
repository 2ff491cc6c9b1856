import { execFileSync } from 'node:child_process'
import { renameSync, rmSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { afterAll, beforeAll, describe, expect, inject, it, vi } from 'vitest'
import { freePort, PostgresServer } from '../../demo/postgres-server'
import { refAtPosition } from '../../core/chain/moment-ref'
import { linesOf } from '../../core/compare/rows'
import { defaultLog } from '../../core/plan/definition'
import { addSource, probeSource } from '../../engine/catalog/sources'
import { addVessel, saveDefinition, type Vessel } from '../../engine/catalog/vessels'
import { readinessOf } from '../../engine/log/readiness'
import { waitForLog } from '../../engine/log/wait'
import { openPoint } from '../../engine/points/open'
import { Workbench } from '../support/engine'

// What happens to a source of its own: it restarts, it becomes another server, it does not let itself be followed.

let bench: Workbench
let port: number
let source: PostgresServer
let vessel: Vessel
const rules = [{ id: 'a', act: 'take' as const, kind: 'database' as const, pattern: 'own/shop' }]
const settings = { wal_level: 'logical', fsync: 'off', max_connections: '40' }
const member = 'own/shop'
const folder = join(inject('folder'), 'own-source')

function serverWith(more: Record<string, string>): PostgresServer {
  return new PostgresServer({ folder, port, password: inject('password'), settings: more })
}
const sql = (text: string) => source.psql('shop', text)
const follower = () => bench.engine.db.selectFrom('follower').selectAll().where('vessel_id', '=', vessel.id).executeTakeFirst()
/** Holes of the whole member, not of single tables. */
const breaks = () =>
  bench.engine.db
    .selectFrom('chain_break')
    .selectAll()
    .where('vessel_id', '=', vessel.id)
    .where('kind', '<>', 'structure')
    .orderBy('at')
    .execute()
const until = (holds: () => Promise<boolean>) =>
  vi.waitFor(async () => expect(await holds()).toBe(true), { timeout: 60_000, interval: 100 })

/** A new full has begun a new log, and all runs are done. */
async function followsAgain(): Promise<void> {
  await until(async () => (await follower())?.state === 'following')
  await until(
    async () => (await bench.engine.db.selectFrom('run').select('id').where('state', 'in', ['waiting', 'running']).execute()).length === 0,
  )
}

/** Everything that was done so far is in the store: up to the position that is returned. */
async function flushed(): Promise<string> {
  const position = sql('select pg_current_wal_insert_lsn()')
  // What was inserted last may not be written yet; a commit writes it.
  sql(`select pg_logical_emit_message(true, 'flush', '')`)
  await waitForLog(bench.engine, vessel.id, member, position, new AbortController().signal)
  return position
}
async function rowsAt(position: string, name: string, near: number | null = null): Promise<string[]> {
  const point = await openPoint(bench.engine, refAtPosition(vessel.slug, 'own', position, near))
  const table = point.members[0]!.manifest.databases[0]!.tables.find((candidate) => candidate.name === name)!
  const chunks: Uint8Array[] = []
  for await (const bytes of point.store.readAll(table.chunks.map((chunk) => chunk.name))) chunks.push(bytes)
  return [...linesOf(chunks)].sort()
}

beforeAll(async () => {
  bench = await Workbench.open()
  port = await freePort()
  source = serverWith({ ...settings, wal_level: 'replica' })
  source.create()
  source.start()
  source.psql('postgres', 'create database shop')
  sql(
    `create table item (id int primary key, v text); insert into item select g, 'v' from generate_series(1, 100) g; create table loose (x int); create unlogged table quick (id int primary key)`,
  )
  const server = { host: '127.0.0.1', port, user: 'postgres', database: 'postgres', tls: 'off' as const }
  await addSource(bench.engine, { name: 'own', password: inject('password'), settings: server })
  vessel = await addVessel(bench.engine, 'Shop', {
    rules,
    store: 'dry-dock',
    promises: { couldLose: null, backWithin: null },
    readers: 1,
    log: { ...defaultLog(true), structure: 'compare' },
  })
})
afterAll(async () => {
  await bench?.close()
  source?.remove()
})

describe('readiness', () => {
  it('says beforehand what keeps the log from being followed, and what mends it', async () => {
    const [readiness] = await readinessOf(bench.engine, vessel.id, vessel.definition)
    expect(readiness!.obstacles[0]).toMatchObject({
      stops: true,
      what: expect.stringContaining('wal_level of own is replica'),
      mend: expect.stringContaining('restart the server'),
    })
    expect(readiness!.unfollowed).toEqual([
      { name: 'public.loose', why: expect.stringContaining('no key'), mend: expect.stringContaining('ADD COLUMN') },
      { name: 'public.quick', why: expect.stringContaining('unlogged'), mend: 'ALTER TABLE "public"."quick" SET LOGGED;' },
    ])
    const id = (await bench.engine.db.selectFrom('source').select('id').where('name', '=', 'own').executeTakeFirstOrThrow()).id
    expect((await probeSource(bench.engine, id)).findings.find((finding) => finding.id === 'wal_level')).toMatchObject({
      outcome: 'advice',
    })
  })

  it('does not keep a full from being made, which says so', async () => {
    const run = await bench.run('backup', vessel)
    expect(run.state).toBe('warned')
    expect((await bench.messages(run.id)).join(' ')).toContain('its wal_level is not logical')
    expect(await follower()).toMatchObject({ state: 'waiting', trouble: { code: 'log_level' } })
  })

  it('says when the server lets nobody else follow its log, and that more connections do not help', async () => {
    await source.halt()
    source = serverWith({ ...settings, max_wal_senders: '0' })
    source.start()
    const [readiness] = await readinessOf(bench.engine, vessel.id, vessel.definition)
    expect(readiness!.obstacles.filter(({ stops }) => stops)).toEqual([
      expect.objectContaining({ what: expect.stringContaining('another follower'), mend: expect.stringContaining('max_wal_senders') }),
    ])
    const run = await bench.run('backup', vessel)
    expect(run.state).toBe('warned')
    expect((await bench.messages(run.id)).join(' ')).toContain('Raise max_wal_senders there')
  })
})

describe('a source that is followed without a trigger', () => {
  it('begins when it can be, with a full by itself', async () => {
    await source.halt()
    source = serverWith(settings)
    source.start()
    await bench.engine.work({ alone: false, logRetryMs: 1000 })
    await followsAgain()
    sql(`insert into item values (200, 'followed')`)
    const position = await flushed()
    expect(await rowsAt(position, 'item')).toContain('200\tfollowed')
    expect(sql(`select count(*) from pg_event_trigger`)).toBe('0')
  })

  it('notices changes of structure by its catalogs, and reads what it missed by itself', async () => {
    sql(`create table made (id int primary key, v text); insert into made values (1, 'early')`)
    await until(async () => Object.values((await follower())!.tables).some(({ name, since }) => name === 'made' && since !== null))
    await until(
      async () => (await bench.engine.db.selectFrom('artifact').select('id').where('kind', '=', 'differential').execute()).length > 0,
    )
    sql(`insert into made values (2, 'late'); alter table item add column w int default 5; update item set v = 'x' where id = 1`)
    const position = await flushed()
    expect(await rowsAt(position, 'made')).toEqual(['1\tearly', '2\tlate'])
    expect((await rowsAt(position, 'item')).filter((line) => line.endsWith('\t5'))).toHaveLength(101)
    // A key that is dropped is taken off within moments; from then on updates are as before.
    sql('alter table made drop constraint made_pkey')
    await until(async () => sql(`select count(*) from pg_publication_tables where tablename = 'made'`) === '0')
    sql(`update made set v = 'goes'`)
  })
})

describe('a source', () => {
  it('that restarts leaves no hole', async () => {
    sql(`insert into item (id, v) values (300, 'before')`)
    await source.halt()
    source.start()
    sql(`insert into item (id, v) values (301, 'after')`)
    const position = sql('select pg_current_wal_insert_lsn()')
    await until(() =>
      flushed().then(
        () => true,
        () => false,
      ),
    )
    expect((await rowsAt(position, 'item')).filter((line) => /^30[01]\t/.test(line))).toHaveLength(2)
    expect(await breaks()).toEqual([])
  })

  it('that was promoted goes another way from then on: a break, and a new full', async () => {
    await source.halt()
    writeFileSync(join(folder, 'data', 'standby.signal'), '')
    source.start()
    expect(sql('select pg_promote()')).toBe('t')
    await until(async () => (await breaks()).some(({ kind }) => kind === 'timeline'))
    expect((await breaks())[0]!.reason).toContain('from timeline 1 to 2')
    await followsAgain()
    sql(`insert into item (id, v) values (400, 'after the promotion')`)
    const position = await flushed()
    expect((await rowsAt(position, 'item')).filter((line) => line.startsWith('400\t'))).toHaveLength(1)
  })

  it('that was put back to an earlier state is a break, and a new full begins', async () => {
    await source.halt()
    const copy = join(folder, 'earlier')
    execFileSync('cp', ['-a', join(folder, 'data'), copy])
    source.start()
    sql(`insert into item (id, v) select g, 'undone' from generate_series(1000, 3000) g`)
    const lost = sql('select pg_current_wal_insert_lsn()')
    const near = Date.now() * 1000
    await until(() =>
      flushed().then(
        () => true,
        () => false,
      ),
    )
    await source.halt()
    rmSync(join(folder, 'data'), { recursive: true })
    renameSync(copy, join(folder, 'data'))
    source.start()
    await until(async () => (await breaks()).some(({ kind }) => kind === 'position'))
    expect((await breaks()).at(-1)!.reason).toContain('put back to an earlier state')
    await followsAgain()
    sql(`insert into item (id, v) values (500, 'after')`)
    const position = await flushed()
    const rows = await rowsAt(position, 'item')
    expect(rows.filter((line) => line.startsWith('500\t'))).toHaveLength(1)
    expect(rows.filter((line) => line.includes('undone'))).toEqual([])
    // What was there before is a history of its own; a position that both have is told apart by its time.
    expect((await rowsAt(lost, 'item', near)).filter((line) => line.includes('undone'))).toHaveLength(2001)
  })

  it('leaves nothing of ours behind when its log is not followed any more', async () => {
    await saveDefinition(bench.engine, vessel.slug, 1, { ...vessel.definition, log: { ...vessel.definition.log!, follow: false } })
    await until(async () => (await follower()) === undefined)
    expect(sql(`select count(*) from pg_replication_slots`)).toBe('0')
    expect(sql(`select count(*) from pg_publication`)).toBe('0')
    expect(sql(`select count(*) from pg_namespace where nspname = 'unbroken_vessel'`)).toBe('0')
    expect((await breaks()).at(-1)).toMatchObject({ kind: 'paused', reason: expect.stringContaining('switched off') })
  })

  it('that has become another server is a break, and a new full begins', async () => {
    await saveDefinition(bench.engine, vessel.slug, 2, {
      ...vessel.definition,
      log: { ...vessel.definition.log!, follow: true, structure: 'trigger' },
    })
    await until(async () => (await follower())?.state === 'following')
    source.remove()
    source.create()
    source.start()
    source.psql('postgres', 'create database shop')
    sql(`create table item (id int primary key, v text); insert into item values (1, 'of another server')`)
    await until(async () => (await breaks()).some(({ kind }) => kind === 'source'))
    await followsAgain()
    sql(`insert into item values (2, 'more')`)
    const position = await flushed()
    expect(await rowsAt(position, 'item')).toEqual(['1\tof another server', '2\tmore'])
  })
})
