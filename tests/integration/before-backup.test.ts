import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { discoverSource } from '../../engine/catalog/sources'
import { changedSinceBackup } from '../../engine/points/since'
import { waysOfBackup } from '../../engine/runs/ways'
import { LogBench } from '../support/log'

// What is told before a backup is begun: which ways could begin now, and what changed in what is taken.

let log: LogBench
beforeAll(async () => {
  log = await LogBench.open(`
    create schema sales;
    create table sales.leg (leg_id int primary key, note text);
    create table sales.fare (fare_id int primary key);
    create view sales.short_legs as select leg_id from sales.leg;
    insert into sales.leg select g, 'a' from generate_series(1, 100) g`)
})
afterAll(() => log?.close())

const ways = async () =>
  Object.fromEntries((await waysOfBackup(log.bench.engine, log.vessel)).map(({ way, obstacle }) => [way, obstacle === null]))
const NONE = { full: true, differential: false, incremental: false, synthetic: false, audit: false }

describe('ways of backup', () => {
  it('that could begin now are those that do, and the others say why they do not', async () => {
    expect(await ways()).toEqual(NONE)
    for (const { way, obstacle } of await waysOfBackup(log.bench.engine, log.vessel)) {
      if (obstacle === null || way === 'audit') continue
      expect(obstacle).toContain('Bookings has no full yet')
      expect((await log.bench.run('backup', log.vessel, { what: way })).error).toMatchObject({ code: 'no_full' })
    }
    await log.bench.backup(log.vessel)
    log.follow()
    await log.flush()
    expect(await ways()).toEqual({ full: true, differential: true, incremental: true, synthetic: true, audit: true })
    for (const what of ['differential', 'incremental', 'synthetic'])
      expect((await log.bench.run('backup', log.vessel, { what })).state).toBe('done')
    expect((await log.bench.run('audit', log.vessel)).state).toBe('done')
  })

  it('without a log are a full, and a differential that compares ranges at the source', async () => {
    await log.unfollow()
    const { db } = log.bench.engine
    const before = await db.selectFrom('follower').selectAll().where('vessel_id', '=', log.vessel.id).executeTakeFirstOrThrow()
    await db.updateTable('follower').set({ state: 'broken' }).where('vessel_id', '=', log.vessel.id).execute()
    expect(await ways()).toEqual({ ...NONE, differential: true })
    const all = await waysOfBackup(log.bench.engine, log.vessel)
    expect(all.find(({ way }) => way === 'differential')!.notes[0]).toContain('gives no log')
    expect((await log.bench.run('backup', log.vessel, { what: 'incremental' })).error).toMatchObject({ code: 'no_log' })
    expect((await log.bench.run('audit', log.vessel)).error).not.toBeNull()
    expect((await log.bench.run('backup', log.vessel, { what: 'differential' })).state).toBe('done')
    await db.updateTable('follower').set({ state: before.state }).where('vessel_id', '=', log.vessel.id).execute()
  })
})

describe('what changed in a selection since the newest backup', () => {
  const since = async () => {
    const { id } = await log.bench.engine.db.selectFrom('source').select('id').executeTakeFirstOrThrow()
    await discoverSource(log.bench.engine, id)
    const { fresh, gone, dropped, unreadable } = (await changedSinceBackup(log.bench.engine, log.vessel))!
    const names = ({ first }: { first: string[] }) => first.map((path) => path.split('/').at(-1))
    return { fresh: names(fresh), gone: names(gone), dropped: names(dropped), unreadable: unreadable.count }
  }
  it('is nothing right after one, whatever kinds of things there are', async () => {
    await log.bench.backup(log.vessel)
    expect(await since()).toEqual({ fresh: [], gone: [], dropped: [], unreadable: 0 })
  })
  it('is what came and what went', async () => {
    log.bench.sql('create table sales.voucher (id int primary key); drop table sales.fare; drop view sales.short_legs')
    expect(await since()).toEqual({ fresh: ['voucher'], gone: ['fare', 'short_legs'], dropped: [], unreadable: 0 })
  })
  it('is what a rule takes no more', async () => {
    const rules = [
      ...log.vessel.definition.rules,
      { id: 'less', act: 'leave' as const, kind: 'thing' as const, pattern: log.bench.path('sales', 'leg') },
    ]
    const narrower = { ...log.vessel, definition: { ...log.vessel.definition, rules } }
    const found = (await changedSinceBackup(log.bench.engine, narrower))!
    expect(found.dropped).toEqual({ count: 1, first: [log.bench.path('sales', 'leg')] })
  })
})
