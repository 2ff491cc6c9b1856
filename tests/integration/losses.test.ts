import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'
import { defaultLog } from '../../core/plan/definition'
import { readRef } from '../../core/chain/moment-ref'
import { discoverSource, thingsPresent } from '../../engine/catalog/sources'
import type { Vessel } from '../../engine/catalog/vessels'
import { openLosses, wasMeant } from '../../engine/watch/losses'
import type { Loss } from '../../engine/watch/loss'
import { returned } from '../../engine/watch/returns'
import { DiscoveryWatch } from '../../engine/watch/discovery'
import { LogBench } from '../support/log'
import { dropSlots, isFollowed, Workbench } from '../support/engine'

// What somebody drops, empties or deletes in numbers is told within seconds, once, with the best way back first.

const LEGS = 'sales.booking_leg'
const SQL = `
  create schema sales;
  create table sales.booking (id bigint generated always as identity primary key, v text);
  create table sales.booking_leg (id bigint generated always as identity primary key, booking bigint references sales.booking, port text, fare int);
  create table sales.note (id bigint generated always as identity primary key, leg bigint constraint note_leg references sales.booking_leg, v text);
  create view sales.full_legs as select * from sales.booking_leg where fare > 0;
  insert into sales.booking (v) select g::text from generate_series(1, 50) g;
  insert into sales.booking_leg (booking, port, fare) select 1 + g % 50, 'port ' || g, g from generate_series(1, 300) g;
  insert into sales.note (leg, v) select g, 'note' from generate_series(1, 40) g`

/** The losses that are told, once there are some that are as wanted. How soon that is, a machine that has time tells (tests/e2e/losses). */
const told = (bench: Workbench, isWanted: (losses: Loss[]) => boolean = (losses) => losses.length > 0) =>
  vi.waitFor(
    async () => {
      const losses = await openLosses(bench.engine)
      if (!isWanted(losses)) throw new Error(`told is ${JSON.stringify(losses.map(({ what }) => what))}`)
      return losses
    },
    { timeout: 30_000, interval: 50 },
  )

const named = (bench: Workbench, name: string, withLog: boolean): Promise<Vessel> =>
  bench.vessel(name, undefined, 2, withLog ? { ...defaultLog(true), structure: 'trigger' } : undefined)

describe.each(['trigger', 'compare'] as const)('a loss that a log tells of (%s)', (structure) => {
  let log: LogBench
  let bench: Workbench
  beforeAll(async () => {
    log = await LogBench.open(SQL, { structure, everySeconds: 60 })
    ;({ bench } = log)
    await bench.backup(log.vessel)
    log.follow(60_000)
    await log.flush()
    bench.sql(`insert into sales.booking_leg (booking, port, fare) select 1, 'late', 7 from generate_series(1, 33)`)
    await log.flush()
  })
  afterAll(() => log?.close())

  it('is told at once: when, who, what went with it, how many rows, and the way to just before it', async () => {
    const rows = log.rows(LEGS)
    const from = new Date()
    bench.sql(`set application_name = 'a slip'; drop table ${LEGS} cascade`)
    const [loss, ...others] = await told(bench, ([first]) => first !== undefined && /with \d+ rows/.test(first.what))
    expect(others).toEqual([])
    expect(loss).toMatchObject({
      level: 'error',
      kind: 'dropped',
      what: `sales.booking_leg was dropped from db / ${bench.database}, with 333 rows.`,
      paths: [bench.path('sales', 'booking_leg')],
    })
    if (structure === 'trigger') {
      expect(loss!.after).toBeNull()
      expect(Math.abs(loss!.at.getTime() - from.getTime())).toBeLessThan(1500)
      expect(loss).toMatchObject({ by: { application: 'a slip' }, statement: expect.stringContaining('drop table') })
      expect(loss!.went.map(({ name }) => name).sort()).toEqual(['note_leg on sales.note', 'sales.full_legs'])
    } else {
      expect(loss!.after!.getTime()).toBeLessThan(from.getTime() + 50)
      expect(loss!.at.getTime()).toBeGreaterThanOrEqual(from.getTime())
    }
    expect(loss!.ways.map(({ kind, without }) => [kind, without])).toEqual([
      ['moment', null],
      ['point', expect.stringMatching(/^up to 333? changes of the [\d.]+ s before the loss$/)],
    ])
    const run = (await bench.restore(log.vessel, loss!.ways[0]!.ref, { picks: loss!.paths })).run
    expect(['done', 'warned']).toContain(run.state)
    expect(log.rows(LEGS)).toEqual(rows)
    await log.flush()
    expect(await openLosses(bench.engine)).toEqual([])
    expect(await returned(bench.engine)).toEqual([
      { run: run.id, at: expect.any(Date), what: expect.stringMatching(/booking_leg.* back\.$/) },
    ])
  })

  it('is a table that was emptied, or of which many rows were deleted; not what an application deletes', async () => {
    // What was made again is followed from a differential on, which begins by itself where workers are.
    bench.sql(`analyze`)
    await bench.backup(log.vessel, 'differential')
    await log.unfollow()
    log.follow(60_000)
    // Where nothing tells of a structure, a look has to have found the new table before a moment holds it.
    await vi.waitFor(
      async () => {
        const now = log.moment(LEGS)
        await log.flush()
        await log.holds(now)
      },
      { timeout: 60_000, interval: 100 },
    )
    bench.sql(`delete from sales.booking_leg where id between 41 and 45`)
    await log.flush()
    expect(await openLosses(bench.engine)).toEqual([])
    const before = log.rows(LEGS)
    bench.sql(`delete from sales.booking_leg where id > 100`)
    const [loss] = await told(bench)
    expect(loss!.what).toBe(
      `228 rows of sales.booking_leg in db / ${bench.database} were deleted.`.replace(
        '228',
        String(before.filter((row) => Number(row.split('\t')[0]) > 100).length),
      ),
    )
    expect(loss!.ways.map(({ kind }) => kind)).toEqual(['undo', 'moment', 'point'])
    const { run, receipts } = await bench.restore(log.vessel, loss!.ways[1]!.ref, { picks: loss!.paths, collide: 'merge' })
    expect([run.error, receipts[0]]).toMatchObject([null, { outcome: 'merged', reason: null, equal: true }])
    expect(log.rows(LEGS)).toEqual(before)
    expect(await openLosses(bench.engine)).toEqual([])

    bench.sql(`truncate sales.note`)
    const [emptied] = await told(bench, ([first]) => first !== undefined && first.what.startsWith('40 rows'))
    expect(emptied!.what).toBe(`40 rows of sales.note in db / ${bench.database} were deleted.`)
    await wasMeant(bench.engine, emptied!.key)
    expect(await openLosses(bench.engine)).toEqual([])
  })

  it('is told as one where it happens again and again, and no more once it is a habit', async () => {
    bench.sql(`create table sales.queue (id int primary key); insert into sales.queue select generate_series(1, 100)`)
    await bench.backup(log.vessel, 'differential')
    await log.unfollow()
    log.follow(60_000)
    for (let i = 0; i < 5; i++) {
      await log.flush()
      bench.sql(`delete from sales.queue; insert into sales.queue select generate_series(1, 100)`)
    }
    await log.flush()
    const [loss, ...others] = await told(bench)
    expect([loss!.times, others]).toEqual([3, []])
    await wasMeant(bench.engine, loss!.key)
    expect(await openLosses(bench.engine)).toEqual([])
  })

  it('is not what a restore of ours overwrites, what is renamed, what is swapped, and what comes and goes in a transaction', async () => {
    const points = await bench.engine.db.selectFrom('point').select('id').where('vessel_id', '=', log.vessel.id).execute()
    expect(
      (await bench.restore(log.vessel, points[0]!.id, { picks: [bench.path('sales', 'booking')], collide: 'replace' })).run.error,
    ).toBeNull()
    bench.sql(`begin; create table sales.staged (id int); drop table sales.staged; commit; alter table sales.note rename to remark`)
    await log.flush()
    await discoverSource(bench.engine, (await log.row()).source_id)
    bench.sql(
      `begin; create table sales.fresh as table sales.remark; drop table sales.remark; alter table sales.fresh rename to remark; commit`,
    )
    await log.flush()
    const { source_id: source } = await log.row()
    // How many rows the new one has, the server's statistics know a little later.
    await vi.waitFor(
      async () => {
        await discoverSource(bench.engine, source)
        expect(await openLosses(bench.engine)).toEqual([])
      },
      { timeout: 30_000, interval: 500 },
    )
  })

  it('is a column, and a table that is made anew without its rows', async () => {
    bench.sql(`alter table sales.booking drop column v`)
    const [column] = await told(bench, ([first]) => first?.kind === 'columns')
    expect(column).toMatchObject({ level: 'warning', what: `1 column of sales.booking in db / ${bench.database} was dropped: v.` })
    await wasMeant(bench.engine, column!.key)
    bench.sql(`drop table ${LEGS} cascade; create table ${LEGS} (id bigint primary key)`)
    const [loss] = await told(bench, ([first]) => first !== undefined && first.what.includes('rows, and made anew'))
    expect(loss!.what).toMatch(/^sales\.booking_leg in db \/ \S+ was dropped, with \d+ rows, and made anew without them\.$/)
  })
})

describe('a loss that several vessels hold', () => {
  let bench: Workbench
  let vessels: Vessel[]
  beforeAll(async () => {
    bench = await Workbench.open(SQL)
    vessels = [await named(bench, 'Followed', true), await named(bench, 'By points', false)]
    for (const vessel of vessels) await bench.backup(vessel)
  })
  afterAll(() => bench?.close())

  it('is told once, with the log first and the points of the others below', async () => {
    const logs = bench.engine.followLogs(60_000)
    try {
      await vi.waitFor(
        async () => expect((await bench.engine.db.selectFrom('follower').select('state').execute())[0]?.state).toBe('following'),
        30_000,
      )
      await vi.waitFor(() => expect(isFollowed(bench.server, bench.database)).toBe(true), 30_000)
      bench.sql(`drop table ${LEGS} cascade`)
      const [loss, ...others] = await told(bench, ([first]) => first !== undefined && first.ways.length >= 3)
      expect(others).toEqual([])
      expect(loss!.ways.map(({ kind, vessel }) => [kind, vessel.name])).toEqual([
        ['moment', 'Followed'],
        ['point', 'By points'],
        ['point', 'Followed'],
      ])
      expect(readRef(loss!.ways[0]!.ref)).toMatchObject({ source: 'db' })
    } finally {
      await logs.close()
      dropSlots(bench.server, bench.database)
    }
  })
})

describe('rows of a table whose changes are in no log', () => {
  let log: LogBench
  beforeAll(async () => {
    // Without a key nothing tells its rows apart, so the source is not asked for its changes.
    log = await LogBench.open(
      'create table loose (v text); create table sound (id int primary key); insert into loose select g from generate_series(1, 400) g',
    )
    // In a session of its own: a server counts rows twice that are put in and analyzed in one.
    log.bench.sql('analyze')
    const other = await named(log.bench, 'Beside', true)
    await log.bench.backup(log.vessel)
    await log.bench.backup(other)
    log.follow(60_000)
    await log.flush()
  })
  afterAll(() => log?.close())

  it('that are deleted in numbers are told once all the same, with the time between which it was and the point that holds them', async () => {
    const { bench } = log
    const of = (losses: Loss[]) => losses.filter(({ kind }) => kind === 'removed')
    // Rolled back it takes nothing away, though the source counts it.
    bench.sql('begin; delete from loose where v::int > 10; rollback')
    await vi.waitFor(
      async () =>
        expect(await bench.engine.db.selectFrom('follower').selectAll().where('state', '=', 'following').execute()).toHaveLength(2),
      { timeout: 30_000 },
    )
    const deleted = Date.now()
    bench.sql('delete from loose where v::int > 100')
    await vi.waitFor(async () => expect(of(await openLosses(bench.engine))).toHaveLength(1), { timeout: 100_000, interval: 300 })
    // Each of the two vessels looks at its own times, and it stays one loss.
    const rows = () => bench.engine.db.selectFrom('loss').select(['tables', 'counted_at']).execute()
    const counted = async () => (await rows()).map(({ tables, counted_at: at }) => [at !== null, ...tables.map((table) => table.rows)])
    const both = [
      [true, 300],
      [true, 300],
    ]
    await vi.waitFor(async () => expect(await counted()).toEqual(both), { timeout: 60_000, interval: 200 })
    expect(of(await openLosses(bench.engine))).toHaveLength(1)
    const [loss] = of(await openLosses(bench.engine))
    expect(loss).toMatchObject({ paths: [bench.path('public', 'loose')], by: null })
    expect(loss!.at.getTime()).toBeGreaterThanOrEqual(deleted)
    expect(loss!.ways.length).toBeGreaterThan(0)
  })

  it('are counted by whoever follows next, when who wrote a loss down was gone before', async () => {
    const { bench } = log
    await log.unfollow()
    await bench.engine.db.updateTable('loss').set({ counted_at: null }).execute()
    log.follow(60_000)
    const left = () => bench.engine.db.selectFrom('loss').select('id').where('counted_at', 'is', null).execute()
    await vi.waitFor(async () => expect(await left()).toEqual([]), { timeout: 60_000, interval: 100 })
  })
})

describe('a loss of which no log tells', () => {
  let bench: Workbench
  beforeAll(async () => {
    bench = await Workbench.open(SQL)
    await bench.backup(await named(bench, 'Points only', false))
  })
  afterAll(() => bench?.close())

  it('is noticed by looking, and told with the time between which it was', async () => {
    const watching = new DiscoveryWatch(bench.engine, bench.engine.duties)
    watching.start()
    try {
      // A look that finds something tells that there was one before it.
      bench.sql('create table sales.marker (id int)')
      const isSeen = async () => (await thingsPresent(bench.engine)).some(({ path }) => path.endsWith('/marker'))
      await vi.waitFor(async () => expect(await isSeen()).toBe(true), { timeout: 45_000, interval: 200 })
      const dropped = Date.now()
      bench.sql(`drop table ${LEGS} cascade`)
      await vi.waitFor(async () => expect(await openLosses(bench.engine)).toHaveLength(1), { timeout: 60_000, interval: 200 })
      const [loss] = await openLosses(bench.engine)
      expect(loss).toMatchObject({ kind: 'gone', what: `sales.booking_leg is gone from db / ${bench.database}.`, by: null })
      expect(loss!.after!.getTime()).toBeLessThanOrEqual(dropped)
      expect(loss!.at.getTime()).toBeGreaterThanOrEqual(dropped)
      expect(loss!.at.getTime() - loss!.after!.getTime()).toBeLessThan(60_000)
      expect(loss!.ways).toMatchObject([{ kind: 'point', vessel: { name: 'Points only' } }])
      await wasMeant(bench.engine, loss!.key)
      expect(await openLosses(bench.engine)).toEqual([])
    } finally {
      await watching.close()
    }
  })
})
