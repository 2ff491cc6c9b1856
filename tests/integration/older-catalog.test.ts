import { spawnSync } from 'node:child_process'
import { cpSync, readdirSync } from 'node:fs'
import { join } from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { wishOf } from '../../core/restore/wish'
import { addRun } from '../../engine/catalog/runs'
import { vesselBySlug } from '../../engine/catalog/vessels'
import { Engine, optionsFromEnvironment } from '../../engine/engine'
import { tidyUp } from '../../engine/runs/orphans'
import { perform } from '../../engine/runs/runner'
import { findUtilities } from '../../engine/sources/postgres/utilities'
import { LogBench } from '../support/log'

// The catalog was lost, and comes back from a copy that is older than the store. What the store holds since then is in no
// table, and is all there is of it: nobody may take it for what was left lying.

let log: LogBench
let utility: string
beforeAll(async () => {
  utility = (await findUtilities())[0]!.dump
  log = await LogBench.open(
    'create table item (id int primary key, note text); insert into item select g, md5(g::text) from generate_series(1, 5000) g',
  )
})
afterAll(() => log?.close())

const filesIn = (place: string) =>
  readdirSync(place)
    .filter((name) => name !== 'store.json')
    .flatMap((folder) => readdirSync(join(place, folder)).map((name) => `${folder}/${name}`))
    .sort()

/** A copy of the catalog as it is now, under another name. */
function copyOfCatalog(name: string): Record<string, string> {
  const { server, environment } = log.bench
  server.psql('postgres', `create database ${name}`)
  const dump = spawnSync(utility, ['-d', environment.VESSEL_CATALOG!], { encoding: 'utf8', maxBuffer: 1 << 28 })
  expect(dump.stderr).toBe('')
  server.psql(name, dump.stdout)
  return { ...environment, VESSEL_CATALOG: server.url(name) }
}

/** Another machine with the older catalog, and all that lies in the store; what it does must leave every file. */
async function onCopy(environment: Record<string, string>, work: (engine: Engine) => Promise<void>): Promise<void> {
  const { place } = log.bench
  const other = `${place} of ${environment.VESSEL_CATALOG!.split('/').at(-1)}`
  cpSync(place, other, { recursive: true })
  const engine = await Engine.start(optionsFromEnvironment(environment))
  try {
    await engine.db
      .updateTable('store')
      .set({ settings: JSON.stringify({ path: other }) })
      .execute()
    await work(engine)
    expect(filesIn(other)).toEqual(filesIn(place))
  } finally {
    await engine.close()
  }
}

/** Everything that the store holds comes back for the catalog that knows of it. */
async function expectAllThere(point: string): Promise<void> {
  log.bench.sql(`update item set note = 'lost' where id < 100`)
  const before = log.rows('item')
  const into = { mode: 'beside' as const, schema: null, prefix: '', suffix: `_${point.slice(0, 6)}`, names: {} }
  expect((await log.bench.restore(log.vessel, point, { picks: [log.bench.path('public', 'item')], into })).run.state).toBe('done')
  expect(log.rows('item')).toEqual(before)
  expect((await log.bench.run('verify', log.vessel)).error).toBeNull()
}

describe('a catalog that is older than its store', () => {
  it('touches nothing of which it knows nothing, and says that it is there', async () => {
    await log.bench.backup(log.vessel)
    const copy = copyOfCatalog(`older_${Date.now()}`)
    log.follow()
    log.bench.sql(`update item set note = 'changed'`)
    await log.flush()
    await log.unfollow()
    const point = await log.bench.backup(log.vessel)
    await onCopy(copy, async (engine) => {
      await tidyUp(engine, true)
      const vessel = await vesselBySlug(engine, log.vessel.slug)
      const id = await addRun(engine, { kind: 'verify', vessel, startedBy: 'a test' })
      await perform(engine, id)
      const said = await engine.db.selectFrom('run_message').select('text').where('run_id', '=', id).execute()
      expect(said.map(({ text }) => text).join()).toMatch(/1 point, \d+ segments? of log.*knows nothing/)
    })
    await expectAllThere(point)
  })

  it('nor what a run stored that was at work when the copy was made', async () => {
    log.bench.sql(`update item set note = md5(note || 'again')`)
    let copy: Record<string, string> = {}
    const id = await addRun(log.bench.engine, { kind: 'backup', vessel: log.vessel, startedBy: 'a test', params: { what: 'full' } })
    expect(await log.bench.performUntil(id, { title: 'public.item' }, () => void (copy = copyOfCatalog(`during_${Date.now()}`)))).toBe(true)
    const { outcome } = await log.bench.record(id)
    await onCopy(copy, async (engine) => {
      await tidyUp(engine, true)
      expect((await engine.db.selectFrom('run').select('state').where('id', '=', id).executeTakeFirstOrThrow()).state).toBe('failed')
    })
    await expectAllThere((outcome as { point: string }).point)
  })

  it('nor a database that a restore was making then, and that is finished by now', async () => {
    const { bench } = log
    const point = await bench.backup(log.vessel)
    const database = `finished_${Date.now()}`
    const params = { point, wish: wishOf({ picks: [bench.path()], into: { mode: 'elsewhere', source: 'db', database } }), reason: 'a test' }
    const id = await addRun(bench.engine, { kind: 'restore', vessel: log.vessel, startedBy: 'a test', params })
    let copy: Record<string, string> = {}
    expect(await bench.performUntil(id, { title: 'public.item' }, () => void (copy = copyOfCatalog(`restoring_${Date.now()}`)))).toBe(true)
    expect((await bench.record(id)).state).toBe('done')
    await bench.backup(log.vessel)
    await onCopy(copy, async (engine) => {
      await tidyUp(engine, true)
      const { error } = await engine.db.selectFrom('run').select('error').where('id', '=', id).executeTakeFirstOrThrow()
      expect(error).toMatchObject({ code: 'worker_died', touched: expect.stringContaining('may be finished') })
    })
    expect(bench.server.psql(database, 'select count(*) from item')).toBe('5000')
  })
})
