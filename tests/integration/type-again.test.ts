import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { Vessel } from '../../engine/catalog/vessels'
import { takeBack } from '../../engine/runs/take-back'
import { unwell, Workbench } from '../support/engine'

// Types that the server can't change while columns have them are made again with the tables that have them.

const DATA = `
create type mood as enum ('calm', 'rough'); comment on type mood is 'of the sea'; grant usage on type mood to public; revoke usage on type mood from postgres;
create domain tons as numeric(6, 2) check (value > 0); create type spot as (x int, y text);
create table sea (id int primary key, m mood not null default 'calm', earlier mood[] default '{calm,rough}', s spot, t tons);
insert into sea (id, m, s, t) select g, (case when g % 3 = 0 then 'rough' else 'calm' end)::mood, row(g, 'y' || g)::spot, g from generate_series(1, 60) g;
create index sea_rough on sea (id) where m = 'rough'; create index sea_mood on sea (m, id);
create table passage (id int, m mood, sea int references sea, primary key (id, m)) partition by list (m);
create table passage_calm partition of passage for values in ('calm'); create table passage_rough partition of passage for values in ('rough');
insert into passage select g, (select m from sea where id = g), g from generate_series(1, 60) g;
create view rough_seas as select * from sea where m = 'rough'; create materialized view counted as select m, count(*) from sea group by m;
create function worse(a mood) returns mood language sql immutable as $$ select case a when 'calm' then 'rough'::public.mood else a end $$;
create function seas_of(a mood) returns setof sea language sql stable as $$ select * from public.sea where m = a $$;
create table forecast (id int primary key, m mood, next mood generated always as (worse(m)) stored, check (worse(m) = 'rough')); insert into forecast values (1, 'calm'), (2, 'rough');
create type span as range (subtype = int4); create domain short as span check (upper(value) - lower(value) < 100);
create table watch (id int primary key, s span not null, all_of span_multirange, b short); insert into watch values (1, '[1,5)', '{[1,2),[3,4)}', '[7,9)');
create function around(a span) returns span language sql immutable as $$ select a $$;
create type lap as range (subtype = float8, subtype_diff = float8mi);
create table apart (id int primary key, v text); insert into apart values (1, 'stays')`

let bench: Workbench
let vessel: Vessel
let point: string
beforeAll(async () => {
  bench = await Workbench.open(DATA)
  vessel = await bench.vessel('Moods')
  point = await bench.backup(vessel)
})
afterAll(() => bench?.close())

const dump = () => bench.server.dump(bench.database, []).replaceAll(/^\\(un)?restrict .*$/gm, '')

describe('a type that was changed since, and that columns have', () => {
  it('is as it was again with the tables that have it, and as it became when that is taken back', async () => {
    const earlier = dump()
    bench.sql(`alter type mood add value 'stormy' before 'rough'`)
    bench.sql(`insert into sea values (99, 'stormy'); delete from sea where id = 3 and false; update apart set v = 'changed'; refresh materialized view counted;
      alter type spot drop attribute y cascade; alter type spot add attribute z date; comment on type mood is null`)
    const changed = dump()
    const { run, receipts } = await bench.restore(vessel, point, {})
    expect(run.error).toBeNull()
    expect(unwell(receipts)).toEqual([])
    expect(dump()).toBe(earlier)
    const back = await bench.run('restore', vessel, { ...(await takeBack(bench.engine, run.id)) })
    expect(back.error).toBeNull()
    expect(dump()).toBe(changed)
    const again = await bench.restore(vessel, point, {})
    expect(unwell(again.receipts)).toEqual([])
    expect(dump()).toBe(earlier)
  })

  it('is another one in itself, and comes back', async () => {
    const before = dump()
    bench.sql(`drop view rough_seas; alter table sea alter t type text; drop domain tons; create domain tons as text check (value <> ''); alter table sea alter t type tons;
      drop function around; alter table watch alter s type text, alter all_of type text, alter b type text; drop domain short; drop type span;
      create type span as range (subtype = int8, multirange_type_name = spans); create domain short as span; create function around(a span) returns span language sql immutable as $$ select a $$;
      alter table watch alter s type span using s::span, alter all_of type spans using all_of::spans, alter b type short using b::short;
      drop type lap; create type lap as range (subtype = numeric);
      alter table passage detach partition passage_rough; alter table passage rename column m to n`)
    const { run, receipts } = await bench.restore(vessel, point, {})
    expect(run.error).toBeNull()
    expect(unwell(receipts)).toEqual([])
    expect(dump()).toBe(before)
  })

  it('stays where something has it that does not come back, which is named before', async () => {
    bench.sql(`alter type mood add value 'wild'; create table newer (id int primary key, m mood); insert into newer values (1, 'wild')`)
    const { receipts } = await bench.restore(vessel, point, {
      picks: ['mood', 'sea', 'passage', 'passage_calm', 'passage_rough', 'forecast'].map((name) => bench.path('public', name)),
    })
    const type = receipts.find(({ path }) => path.endsWith('/mood'))!
    expect(type.outcome).toBe('left')
    expect(type.reason).toContain('table public.newer needs it')
    expect(bench.sql(`select m from newer`)).toBe('wild')
    expect(bench.sql(`select count(*) from sea`)).toBe('60')
  })
})
