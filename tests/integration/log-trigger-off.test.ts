import { afterAll, describe, expect, it, vi } from 'vitest'
import { openPoint, noRows } from '../../engine/points/open'
import { LogBench } from '../support/log'

// What the source is kept from telling is noticed all the same, and never given out as exact.

const benches: LogBench[] = []
async function followed(sql: string): Promise<LogBench> {
  const log = await LogBench.open(sql)
  benches.push(log)
  await log.bench.backup(log.vessel)
  log.follow(60_000)
  await log.flush()
  return log
}
afterAll(async () => {
  for (const log of benches) await log.close()
})
const item = `create table item (id int primary key, v text); insert into item select g, 'v' || g from generate_series(1, 50) g`
const triggers = (log: LogBench) =>
  log.bench.sql(`select count(*) from pg_event_trigger where evtname like 'unbroken%' and evtenabled = 'A'`)

describe('a trigger that somebody took off', () => {
  it('is put on again, and what was rewritten without it is not known from before', async () => {
    const log = await followed(item)
    const before = log.moment('public.item')
    log.bench.sql(
      `drop event trigger unbroken_vessel_rewrite; drop event trigger unbroken_vessel_command; alter table item alter v type text using upper(v)`,
    )
    const after = log.moment('public.item')
    log.bench.sql(`update item set v = 'later' where id = 3`)
    await vi.waitFor(() => expect(triggers(log)).toBe('4'), { timeout: 30_000, interval: 200 })
    await vi.waitFor(
      async () => {
        await log.flush()
        await expect(log.rowsAt(log.ref(after), 'public.item')).rejects.toThrow('not known')
      },
      { timeout: 30_000, interval: 300 },
    )
    await log.holds(before).catch((error: Error) => expect(error.message).toContain('not known'))
    await log.bench.backup(log.vessel, 'differential')
    const mended = log.moment('public.item')
    await log.flush()
    await log.holds(mended)
  }, 90_000)

  it('tells of a moment by then that what was made, changed, and gone again is not known', async () => {
    const log = await followed(`${item}; create function two() returns int language sql as 'select 2'`)
    const before = log.moment('public.item')
    log.bench.sql(`insert into item values (51, 'v51'); drop event trigger unbroken_vessel_command`)
    log.bench.sql(`create table gone (id int primary key); create or replace function two() returns int language sql as 'select 3'`)
    const between = log.moment('public.gone')
    log.bench.sql(
      `insert into item values (52, 'v52'); drop table gone; create or replace function two() returns int language sql as 'select 2'`,
    )
    const toldOf = async ({ position }: { position: string }) => {
      const { manifest } = (await openPoint(log.bench.engine, log.ref({ position }), noRows)).members[0]!
      return manifest.databases[0]!.missing.filter(({ path }) => path === log.member).map(({ reason }) => reason)
    }
    await vi.waitFor(() => expect(triggers(log)).toBe('4'), { timeout: 30_000, interval: 200 })
    await vi.waitFor(
      async () => {
        await log.flush()
        expect(await toldOf(between)).toEqual([expect.stringContaining('the source does not tell when')])
      },
      { timeout: 30_000, interval: 300 },
    )
    await log.holds(before)
    log.bench.sql(`create table kept (id int primary key)`)
    const later = log.moment('public.item', 'public.kept')
    await log.flush()
    expect(await toldOf(later)).toEqual([])
    await log.holds(later)
  }, 150_000)

  it('of an application that takes changes over as a replica fires all the same', async () => {
    const log = await followed(item)
    log.bench.sql(
      `set session_replication_role = replica; create table taken_over (id int primary key); insert into taken_over values (1); alter table item add column w int default 4`,
    )
    const moment = log.moment('public.item', 'public.taken_over')
    await log.flush()
    await log.holds(moment)
  }, 150_000)

  it('that fails tells that it does not know', async () => {
    const log = await followed(item)
    // Nothing of ours may fail a statement; here its own description fails.
    log.bench.sql(
      `do $$ begin execute replace(pg_get_functiondef('unbroken_vessel.note_structure'::regproc), '''objects'', objects,', '''objects'', 1 / (length(tg_tag) - length(tg_tag)),'); end $$`,
    )
    log.bench.sql('alter table item add column w int')
    const moment = log.moment()
    await log.flush()
    const { manifest } = (await openPoint(log.bench.engine, log.ref(moment), noRows)).members[0]!
    expect(manifest.databases[0]!.missing.map(({ reason }) => reason).join()).toContain('could not be told by the source')
    await vi.waitFor(
      async () => {
        const now = (await openPoint(log.bench.engine, log.ref({ position: await log.flush() }), noRows)).members[0]!.manifest.databases[0]!
        expect(now.tables[0]!.columns).toEqual(['id', 'v', 'w'])
        expect(now.missing).toEqual([])
      },
      { timeout: 30_000, interval: 300 },
    )
  }, 150_000)
})

describe('a differential', () => {
  it('comes about while the structure is changed beside it again and again', async () => {
    const log = await followed(`${item}; create table keyless (x int); create schema aside; create table mover (id int primary key)`)
    let changing = true
    const changes = (async () => {
      for (let i = 0; changing; i++) {
        log.bench.sql(
          `alter table ${i % 2 ? 'aside.' : ''}mover set schema ${i % 2 ? 'public' : 'aside'}; create index on item (v); drop index item_v_idx`,
        )
        await new Promise((resolve) => setTimeout(resolve, 150))
      }
    })()
    try {
      for (let i = 0; i < 3; i++) {
        const run = await log.bench.run('backup', log.vessel, { what: 'differential' })
        expect(run.error).toBeNull()
      }
    } finally {
      changing = false
      await changes
    }
  }, 120_000)
})
