import { randomBytes } from 'node:crypto'
import pg from 'pg'
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'
import { rowKey } from '../../core/compare/rows'
import { refAtTime } from '../../core/chain/moment-ref'
import { changeReach } from '../../engine/catalog/source-access'
import { accessOf } from '../../engine/catalog/sources'
import { LogBench } from '../support/log'

// A full, then the log: every position is what the source was there.

const PORT = `
create schema harbour;
create table harbour.ship (ship_id int primary key, name text, tons numeric(8, 2), extra jsonb, story text, built timestamptz default now());
alter table harbour.ship alter column story set storage external;
insert into harbour.ship (ship_id, name, tons, story) select g, 'Ship ' || g, g * 1.5, repeat(md5(g::text), 120) from generate_series(1, 400) g;
create table harbour.call (ship_id int, port text, day date, note text, primary key (port, ship_id, day));
insert into harbour.call select g % 400, 'Port ' || g % 7, date '2026-01-01' + g / 7, null from generate_series(1, 2000) g;
create table harbour.whole (id bigint generated always as identity unique, v text, doubled text generated always as (v || v) stored);
alter table harbour.whole alter column id set not null;
alter table harbour.whole replica identity full;
insert into harbour.whole (v) select 'v' || g from generate_series(1, 300) g;
create table harbour.keyless (x int, y text);
insert into harbour.keyless select g, 'y' from generate_series(1, 50) g;
`
const ALL = ['harbour.ship', 'harbour.call']

let log: LogBench

beforeAll(async () => {
  log = await LogBench.open(PORT)
  await log.bench.backup(log.vessel)
  log.follow()
})
afterAll(() => log?.close())

describe('every position', () => {
  it('is what the source was there', async () => {
    const { bench } = log
    const moments = [log.moment(...ALL)]
    const acts = [
      `insert into harbour.ship (ship_id, name, tons) values (1001, e'tab\\there\\nline \\\\ back', 'NaN'), (1002, null, null)`,
      `update harbour.ship set name = 'Neu' where ship_id % 50 = 0`,
      `update harbour.ship set ship_id = ship_id + 5000 where ship_id between 10 and 20`,
      `delete from harbour.call where port = 'Port 3'`,
      `begin; insert into harbour.call values (1, 'Neuhafen', '2026-05-05'); savepoint s; delete from harbour.ship; rollback to savepoint s; update harbour.call set port = 'Alt' where port = 'Port 1'; commit`,
      `begin; delete from harbour.ship where ship_id = 5011; insert into harbour.ship (ship_id, name) values (5011, 'again'); commit`,
      `update harbour.ship set story = 'short' where ship_id = 5`,
      `update harbour.ship set ship_id = 9005, extra = '{"a": 1}' where ship_id = 6`,
    ]
    for (const act of acts) {
      bench.sql(act)
      moments.push(log.moment(...ALL))
    }
    await log.flush()
    for (const moment of moments) await log.holds(moment)
    expect(await log.breaks()).toEqual([])
  })

  it('is told by time as well, with every transaction that was committed until then', async () => {
    const before = log.moment(...ALL)
    await new Promise((resolve) => setTimeout(resolve, 20))
    const between = Date.now() * 1000
    await new Promise((resolve) => setTimeout(resolve, 20))
    log.bench.sql(`delete from harbour.call`)
    await log.flush()
    expect(await log.rowsAt(refAtTime('bookings', between), 'harbour.call')).toEqual(before.tables['harbour.call'])
    expect(await log.rowsAt(refAtTime('bookings', Date.now() * 1000), 'harbour.call')).toEqual([])
  })
})

describe('a source that is reached in another way', () => {
  it('is followed in that way from then on, and nothing is lost between', async () => {
    const { bench } = log
    const role = `second_${randomBytes(4).toString('hex')}`
    const { id, settings, password } = await accessOf(bench.engine, 'db')
    bench.sql(`create role ${role} superuser replication login password 'sesame'`)
    const follows = () => bench.sql(`select usename from pg_stat_replication where usename = '${role}'`)
    try {
      await changeReach(bench.engine, id, { settings: { ...settings, user: role }, password: 'sesame' })
      bench.sql(`insert into harbour.ship (ship_id, name) values (2001, 'in between')`)
      await vi.waitFor(() => expect(follows()).toBe(role), { timeout: 60_000, interval: 200 })
      bench.sql(`insert into harbour.ship (ship_id, name) values (2002, 'afterwards')`)
      const moment = log.moment(...ALL)
      await log.flush()
      await log.holds(moment)
      expect(await log.breaks()).toEqual([])
    } finally {
      await changeReach(bench.engine, id, { settings, password })
      await vi.waitFor(() => expect(follows()).toBe(''), { timeout: 60_000, interval: 200 })
      bench.sql(`drop role ${role}`)
    }
  })
})

describe('a log in which nothing changes', () => {
  it('tells all the same that any moment can be entered', async () => {
    await log.unfollow()
    const told = new Promise<void>((resolve) =>
      log.bench.engine.changes.on('change', (change) => change.about === 'log' && change.vessel === log.vessel.id && resolve()),
    )
    const before = await log.segments()
    log.follow()
    await told
    expect((await log.row()).caught_up_at!.getTime()).toBeGreaterThan(before.at(-1)!.at.getTime())
    expect(await log.segments()).toHaveLength(before.length)
  })
})

describe('changes of structure', () => {
  it('are followed: columns added, renamed and dropped, tables made, renamed and dropped', async () => {
    const { bench } = log
    bench.sql(
      `create table harbour.pilot (pilot_id int primary key, name text, rank text); insert into harbour.pilot select g, 'P' || g, 'r' from generate_series(1, 20) g`,
    )
    const made = log.moment('harbour.pilot', 'harbour.ship')
    await log.flush()
    bench.sql(
      `alter table harbour.pilot add column since date default '2020-02-02'; update harbour.pilot set name = 'X' where pilot_id = 3`,
    )
    await log.flush()
    const added = log.moment('harbour.pilot')
    bench.sql(
      `alter table harbour.ship rename column name to title; update harbour.ship set title = 'renamed' where ship_id < 5; alter table harbour.ship add column flag text default 'de'`,
    )
    await log.flush()
    const renamed = log.moment('harbour.ship')
    bench.sql(
      `alter table harbour.ship drop column tons; insert into harbour.ship (ship_id, title) values (7777, 'late'); alter table harbour.pilot rename to guide`,
    )
    await log.flush()
    const dropped = log.moment('harbour.ship', 'harbour.guide')
    bench.sql(`drop table harbour.guide`)
    const gone = log.moment()
    await log.flush()
    for (const moment of [made, added, renamed, dropped]) await log.holds(moment)
    await expect(log.rowsAt(log.ref(gone), 'harbour.guide')).rejects.toThrow('not at this moment')
    const flags = await bench.engine.db.selectFrom('log_structure').selectAll().orderBy('at').execute()
    expect(flags.map(({ tag }) => tag)).toEqual(expect.arrayContaining(['CREATE TABLE', 'ALTER TABLE', 'DROP TABLE']))
    expect(flags.find(({ tag }) => tag === 'DROP TABLE')!.objects).toContainEqual({ kind: 'table', name: 'harbour.guide' })
  })

  it('never give the value of a column to another one of the same name', async () => {
    log.bench.sql(`create table harbour.swap (id int primary key, x text); insert into harbour.swap values (1, 'old'), (2, 'old')`)
    await log.flush()
    log.bench.sql(
      `begin; alter table harbour.swap drop column x; alter table harbour.swap add column x text; update harbour.swap set x = 'new' where id = 1; commit`,
    )
    const moment = log.moment('harbour.swap')
    await log.flush()
    await log.holds(moment)
    expect(moment.tables['harbour.swap']).toEqual(['1\tnew', '2\t\\N'])
  })

  it('that the log does not tell row by row are said, and the table is read whole by the next differential', async () => {
    const { bench, vessel } = log
    bench.sql(
      `create table harbour.meter (id int primary key, value int); insert into harbour.meter select g, g from generate_series(1, 30) g`,
    )
    await log.flush()
    const before = log.moment('harbour.meter')
    bench.sql(
      `alter table harbour.meter alter column value type text using 'v' || value; update harbour.meter set value = 'changed' where id = 1`,
    )
    const between = log.moment('harbour.meter')
    await log.flush()
    await log.holds(before)
    await expect(log.rowsAt(log.ref(between), 'harbour.meter')).rejects.toThrow('type of its column value was changed')
    expect((await log.breaks()).find(({ tables }) => tables.includes('harbour.meter'))).toMatchObject({ kind: 'structure', to_at: null })
    await bench.backup(vessel, 'differential')
    expect((await log.breaks()).every(({ to_at: to }) => to !== null)).toBe(true)
    const after = log.moment('harbour.meter')
    bench.sql(`update harbour.meter set value = 'later' where id = 2`)
    const later = log.moment('harbour.meter', 'harbour.ship')
    await log.flush()
    await log.holds(after)
    await log.holds(later)
  })
})

describe('what has no identity', () => {
  it('is found, with what mends it, and its updates are never refused', async () => {
    const { bench } = log
    const { tables } = await log.row()
    const keyless = Object.values(tables).find(({ name }) => name === 'keyless')!
    expect(keyless).toMatchObject({ since: null, why: 'It has no key by which its rows can be told apart.' })
    // This is what a publication of everything does to the source, and ours does not.
    bench.sql('create publication everything for all tables')
    expect(() => bench.sql(`update harbour.keyless set y = 'z' where x = 1`)).toThrow('does not have a replica identity')
    bench.sql('drop publication everything')
    bench.sql(`update harbour.keyless set y = 'z' where x = 1; delete from harbour.keyless where x = 2`)
    // A key that is dropped takes the table off in the same transaction.
    bench.sql(`create table harbour.losing (id int primary key, v text); insert into harbour.losing values (1, 'a')`)
    bench.sql(
      `begin; alter table harbour.losing drop constraint losing_pkey; update harbour.losing set v = 'b'; commit; update harbour.losing set v = 'c'; delete from harbour.losing`,
    )
    bench.sql(
      `create table harbour.by_index (id int not null, v text); create unique index by_index_id on harbour.by_index (id); alter table harbour.by_index replica identity using index by_index_id; insert into harbour.by_index values (1, 'a')`,
    )
    bench.sql(`drop index harbour.by_index_id; update harbour.by_index set v = 'b'; delete from harbour.by_index`)
    await log.flush()
    expect((await log.breaks()).filter(({ kind }) => kind !== 'structure')).toEqual([])
  })

  it('is as of the last differential, which is said', async () => {
    const { bench, vessel } = log
    await bench.backup(vessel, 'differential')
    const before = log.rows('harbour.keyless')
    bench.sql(`delete from harbour.keyless where x < 20`)
    const ref = log.ref(log.moment())
    await log.flush()
    expect(await log.rowsAt(ref, 'harbour.keyless')).toEqual(before)
    const { openPoint, noRows } = await import('../../engine/points/open')
    const { missing } = (await openPoint(bench.engine, ref, noRows)).members[0]!.manifest.databases[0]!
    expect(missing.find(({ path }) => path.endsWith('/keyless'))).toMatchObject({
      note: true,
      reason: expect.stringContaining('Its rows are as of'),
    })
  })
})

describe('what is computed from the log', () => {
  it('is the same as the log itself, and reads nothing from the source', async () => {
    const { bench, vessel } = log
    const reads = () =>
      bench.sql(`select coalesce(sum(seq_tup_read + idx_tup_fetch), 0) from pg_stat_user_tables where relname in ('ship', 'call')`)
    bench.sql(
      `update harbour.ship set title = 'net' where ship_id between 100 and 120; delete from harbour.ship where ship_id between 110 and 112; insert into harbour.call select g, 'Net', '2026-02-02' from generate_series(1, 50) g`,
    )
    const first = log.moment(...ALL)
    await log.flush()
    const before = reads()
    await bench.backup(vessel, 'incremental')
    bench.sql(
      `update harbour.call set port = 'Net2' where port = 'Net' and ship_id < 10; truncate harbour.whole; insert into harbour.whole (v) values ('after')`,
    )
    const second = log.moment(...ALL, 'harbour.whole')
    await bench.backup(vessel, 'incremental')
    const third = log.moment(...ALL)
    await log.holds(first)
    const point = await bench.backup(vessel, 'differential')
    expect(await log.rowsAt(point, 'harbour.ship')).toEqual(third.tables['harbour.ship'])
    expect(await log.rowsAt(point, 'harbour.call')).toEqual(third.tables['harbour.call'])
    await log.holds(second)
    bench.sql(`select pg_stat_force_next_flush()`)
    expect(before).not.toBe('')
  })

  it('makes a full in the store, from which the chain goes on without what came before', async () => {
    const { bench, vessel } = log
    const point = await bench.backup(vessel, 'synthetic')
    expect(await log.rowsAt(point, 'harbour.ship')).toEqual(log.rows('harbour.ship'))
    bench.sql(`update harbour.ship set title = 'after the synthetic' where ship_id = 30`)
    const moment = log.moment(...ALL)
    await log.flush()
    const { artifact_id: keep } = await bench.engine.db
      .selectFrom('point_artifact')
      .select('artifact_id')
      .where('point_id', '=', point)
      .executeTakeFirstOrThrow()
    const made = await bench.engine.db.selectFrom('artifact').selectAll().where('id', '=', keep).executeTakeFirstOrThrow()
    await bench.engine.db
      .updateTable('artifact')
      .set({ damaged: true })
      .where('at', '<', made.at)
      .where('id', '<>', keep)
      .where('vessel_id', '=', vessel.id)
      .execute()
    await log.holds(moment)
  })
})

describe('back from a moment', () => {
  it('comes a table, proven, though that state was never stored', async () => {
    const { bench, vessel } = log
    const moment = log.moment('harbour.call')
    bench.sql(`delete from harbour.call where ship_id % 2 = 0; update harbour.call set note = 'damaged'`)
    await log.flush()
    const { run, receipts } = await bench.restore(vessel, log.ref(moment), { picks: [bench.path('harbour', 'call')] })
    expect(run.error).toBeNull()
    expect(receipts[0]).toMatchObject({ outcome: 'replaced', equal: true })
    expect(receipts[0]!.fingerprint_now).toBe(receipts[0]!.fingerprint_then)
    expect(log.rows('harbour.call')).toEqual(moment.tables['harbour.call'])
  })
})

/** The newest large transaction that did so much to a table. */
async function heavyOn(table: string, { updated = 0, deleted = 0 }) {
  const { bench, vessel } = log
  const found = await bench.engine.db.selectFrom('log_heavy').selectAll().where('vessel_id', '=', vessel.id).orderBy('at', 'desc').execute()
  const isIt = ({ name, tally }: { name: string; tally: number[] }) => name === table && tally[1] === updated && tally[2] === deleted
  const { member, position, end_position: end } = found.find(({ tables }) => tables.some(isIt))!
  return { member, position, end }
}

describe('undoing one transaction', () => {
  it('gives back its rows, leaves later changes, and asks where they stand in the way', async () => {
    const { bench, vessel } = log
    const { planUndo } = await import('../../engine/log/undo')
    bench.sql(`create table harbour.parent (id int primary key, v text, w text); create table harbour.child (id int primary key, parent int references harbour.parent, v text);
      insert into harbour.parent select g, 'p' || g, 'w' from generate_series(1, 40) g; insert into harbour.child select g, g, 'c' || g from generate_series(1, 40) g`)
    await log.flush()
    bench.sql(
      `begin; delete from harbour.child where id <= 30; delete from harbour.parent where id <= 30; update harbour.parent set v = 'wrong' where id > 30; insert into harbour.parent values (99, 'made', 'w'); commit`,
    )
    bench.sql(
      `update harbour.parent set w = 'later' where id = 31; update harbour.parent set v = 'later' where id = 32; insert into harbour.parent values (1, 'again', 'w')`,
    )
    await log.flush()
    const transaction = await heavyOn('harbour.child', { deleted: 30 })
    const plan = await planUndo(bench.engine, vessel, transaction)
    const parent = plan.tables.find(({ name }) => name === 'parent')!
    const conflicts = parent.rows.filter(({ conflict }) => conflict !== null).map(({ key }) => key[0])
    expect(conflicts.sort()).toEqual(['1', '32'])
    expect(parent.rows.find(({ key }) => key[0] === '32')!.later).toHaveLength(1)
    const run = await bench.run('undo', vessel, { transaction, choices: { [parent.path]: { [rowKey(['32'])]: 'undo' } }, reason: 'a test' })
    expect(run.error).toBeNull()
    expect(bench.sql(`select count(*) from harbour.child`)).toBe('40')
    expect(bench.sql(`select id, v, w from harbour.parent where id in (1, 2, 31, 32, 33, 99) order by id`).split('\n')).toEqual([
      '1|again|w',
      '2|p2|w',
      '31|p31|later',
      '32|p32|w',
      '33|p33|w',
    ])
    const receipts = await bench.engine.db.selectFrom('receipt').selectAll().where('run_id', '=', run.id).orderBy('ordinal').execute()
    expect(receipts.every(({ equal }) => equal)).toBe(true)
    expect(receipts.find(({ path }) => path.endsWith('parent'))!.reason).toContain('1 left as they are now')
  })

  it('looks once more at rows that were changed after it was planned, with its locks held', async () => {
    const { bench, vessel } = log
    bench.sql(
      `create table harbour.slow (id int primary key, v text); insert into harbour.slow select g, 'then' from generate_series(1, 40) g`,
    )
    await log.flush()
    bench.sql(`update harbour.slow set v = 'wrong'`)
    await log.flush()
    const transaction = await heavyOn('harbour.slow', { updated: 40 })
    const other = new pg.Client({ connectionString: bench.server.url(bench.database) })
    await other.connect()
    await other.query(`begin; update harbour.slow set v = 'since' where id = 1`)
    const running = bench.run('undo', vessel, { transaction, choices: {}, reason: 'a test' })
    await vi.waitFor(
      async () => {
        const { rows } = await other.query(`select from pg_locks where relation = 'harbour.slow'::regclass and not granted`)
        expect(rows).toHaveLength(1)
      },
      { timeout: 60_000, interval: 5 },
    )
    await other.query('commit')
    await other.end()
    expect(await running).toMatchObject({ state: 'warned', error: null, outcome: { undone: 39, left: 1 } })
    expect(bench.sql(`select v, count(*) from harbour.slow group by 1 order by 1`)).toBe('since|1\nthen|39')
  })
})

describe('a segment that can’t be read any more', () => {
  it('is a recorded hole, found by the verification', async () => {
    const { bench, vessel } = log
    const { readdirSync, readFileSync, writeFileSync } = await import('node:fs')
    const { join } = await import('node:path')
    bench.sql(`update harbour.ship set title = 'before the damage' where ship_id = 40`)
    await log.flush()
    bench.sql(`update harbour.ship set title = 'in the damaged segment' where ship_id = 40`)
    await log.flush()
    const segment = (await log.segments()).at(-1)!
    const chunk = await bench.engine.db
      .selectFrom('chunk')
      .select(['pack_id', 'position', 'length'])
      .where('name', '=', Buffer.from(segment.manifest[0]!, 'hex'))
      .executeTakeFirstOrThrow()
    const file = join(bench.place, 'packs', `${chunk.pack_id}.pack`)
    expect(readdirSync(join(bench.place, 'segments')).length).toBeGreaterThan(5)
    const bytes = readFileSync(file)
    bytes[Number(chunk.position) + chunk.length - 9]! ^= 1
    writeFileSync(file, bytes)
    const run = await bench.run('verify', vessel)
    expect(run.error).toMatchObject({ code: 'store_damaged' })
    expect((await log.breaks()).filter(({ kind }) => kind === 'segment')).toMatchObject([{ to_at: null }])
    await expect(log.rowsAt(log.ref({ position: segment.position }), 'harbour.ship')).rejects.toThrow('No unbroken chain')
    await bench.backup(vessel)
    expect((await log.breaks()).every(({ to_at: to }) => to !== null)).toBe(true)
  })
})
