import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { refAtTime } from '../../core/chain/instant-ref'
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
