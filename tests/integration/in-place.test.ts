import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { Vessel } from '../../engine/catalog/vessels'
import { openPoint, allRows } from '../../engine/points/open'
import { planWish } from '../../engine/runs/restore-plan'
import { wishOf } from '../../core/restore/wish'
import { unwell, Workbench } from '../support/engine'

// In place means as it was: the oracle is the server's own dump, before the damage and after the restore.

const DATA = `
do $$ declare role text; begin foreach role in array array['wharf_owner', 'wharf_reader', 'wharf_thief'] loop
  if not exists (select from pg_roles where rolname = role) then execute format('create role %I', role); end if; end loop; end $$;
create function watch() returns trigger language plpgsql as $$ begin return new; end $$;
create table berth (id int primary key, name text default 'none', tons numeric not null, note text);
insert into berth select g, 'b' || g, g, null from generate_series(1, 50) g;
alter table berth owner to wharf_owner; comment on table berth is 'then'; comment on column berth.name is 'what it is called';
grant select on berth to wharf_reader; grant update (note) on berth to wharf_reader;
alter table berth enable row level security; alter table berth force row level security;
create policy own on berth for select to wharf_reader using (id > 1); create policy narrow on berth as restrictive using (true) with check (id < 1000);
create index berth_name on berth (name); create unique index berth_tons on berth (tons) where id > 3; create statistics berth_stats on name, tons from berth;
alter table berth add constraint heavy check (tons > 0), add constraint later check (tons < 40) not valid;
create trigger watched before update on berth for each row execute function watch(); create trigger asleep after insert on berth for each row execute function watch();
alter table berth disable trigger asleep; alter table berth set (fillfactor = 80); alter table berth cluster on berth_name;
create rule quiet as on delete to berth where old.id < 0 do instead nothing;
create table ring (id int primary key, berth int references berth on delete cascade); insert into ring select g, g from generate_series(1, 20) g;
alter table ring replica identity full;
create sequence tickets start 5; select setval('tickets', 500);
create table taken (id serial primary key); insert into taken select from generate_series(1, 30);
revoke all on schema public from public; grant usage on schema public to wharf_reader; comment on schema public is 'ours';
create extension pg_trgm schema public; revoke execute on function similarity(text, text) from public; revoke select on pg_stats from public;
create aggregate counted(*) (sfunc = int8inc, stype = int8, initcond = '0'); comment on aggregate counted(*) is 'how many'; revoke execute on function counted() from public;
create type shell_t; comment on type shell_t is 'to be';
create access method heap_too type table handler heap_tableam_handler; create table elsewhere (id int primary key) using heap_too; insert into elsewhere values (1);
create domain positive as int; create table holds (id int primary key, p positive); insert into holds values (1, -5); alter domain positive add constraint above check (value > 0) not valid;
do $$ begin execute format('alter database %I set work_mem = %L', current_database(), '7MB'); execute format('comment on database %I is %L', current_database(), 'then');
  execute format('alter database %I owner to wharf_owner', current_database()); execute format('revoke connect on database %I from public', current_database());
  execute format('alter role wharf_reader in database %I set search_path = public, pg_catalog', current_database()); execute format('alter database %I connection limit 77', current_database()); end $$;
`

let bench: Workbench
let vessel: Vessel
let point: string
beforeAll(async () => {
  bench = await Workbench.open(DATA)
  vessel = await bench.vessel('Wharf')
  point = await bench.backup(vessel)
})
afterAll(() => bench?.close())

const dump = (database = bench.database) => bench.server.dump(database, ['--create']).replaceAll(database, 'THE DATABASE')

/** What somebody did to one table, without changing its columns. */
const DAMAGE = {
  'security and ownership': `alter table berth no force row level security; drop policy own on berth; create policy mine on berth to wharf_thief using (true);
    alter table berth owner to wharf_thief; comment on table berth is 'bad'; comment on column berth.note is 'new'; comment on column berth.name is null;
    revoke all on berth from wharf_reader; grant all on berth to wharf_thief; revoke update (note) on berth from wharf_reader; grant select (id) on berth to public`,
  'indexes and statistics': `drop index berth_name; drop index berth_tons; create index berth_new on berth (note); drop statistics berth_stats; create statistics more on id, note from berth`,
  'triggers and rules': `drop trigger watched on berth; alter table berth enable always trigger asleep; create trigger added after delete on berth for each row execute function watch(); drop rule quiet on berth; create rule louder as on update to berth do also select 1; alter table berth disable rule louder`,
  'constraints and defaults':
    `alter table berth drop constraint heavy, drop constraint later, add constraint new check (id > -7), alter name set default 'other', alter tons drop not null, alter note set not null`.replace(
      ', alter note set not null',
      '',
    ),
  'keys of others': `alter table ring drop constraint ring_berth_fkey; alter table ring add constraint other_fkey foreign key (id) references berth`,
  'storage and identity': `alter table berth reset (fillfactor); alter table berth set (autovacuum_enabled = off); alter table ring replica identity default; alter table berth set without cluster`,
}

describe('a table whose rows and more were changed', () => {
  it.each(Object.entries(DAMAGE))('is as it was again, in everything that the point knows: %s', async (_, damage) => {
    const before = dump()
    bench.sql(
      `${damage}; alter table berth no force row level security; delete from ring; delete from berth where id > 10; update berth set note = 'bad'; alter table berth disable row level security`,
    )
    const filenode = bench.sql(`select oid from pg_class where relname = 'berth'`)
    const { run, receipts } = await bench.restore(vessel, point, { picks: [bench.path('public', 'berth'), bench.path('public', 'ring')] })
    expect(run.error).toBeNull()
    expect(unwell(receipts)).toEqual([])
    expect(dump()).toBe(before)
    // It was made equal, and not dropped and made again.
    expect(bench.sql(`select oid from pg_class where relname = 'berth'`)).toBe(filenode)
  })

  it('has each difference named in the plan, with what becomes of it', async () => {
    bench.sql(`drop policy own on berth; alter table berth owner to wharf_thief; drop index berth_name`)
    const [planned] = await planWish(
      bench.engine,
      await openPoint(bench.engine, point, allRows),
      wishOf({ picks: [bench.path('public', 'berth')] }),
    )
    const operation = planned!.plan.operations.find(({ path }) => path.endsWith('/berth'))!
    expect(operation.how).toBe('refill')
    expect(operation.notes.join(' ')).toMatch(/policy own is made again.*|owner back to wharf_owner/)
    expect(operation.notes.join(' ')).toContain('owner back to wharf_owner')
    expect(operation.notes.join(' ')).toContain('index berth_name is made again')
    expect(operation.notes.join(' ')).not.toContain('the same then and now')
    const { receipts } = await bench.restore(vessel, point, { picks: [bench.path('public', 'berth')] })
    expect(unwell(receipts)).toEqual([])
  })
})

describe('sequences', () => {
  it('stand where they stood, also when they are picked alone', async () => {
    bench.sql(`select setval('tickets', 1, false)`)
    const { run, receipts } = await bench.restore(vessel, point, { picks: [bench.path('public', 'tickets')] })
    expect(run.state).toBe('done')
    expect(receipts).toMatchObject([
      { outcome: 'replaced', equal: true },
      { outcome: 'compared', equal: true },
    ])
    expect(bench.sql(`select nextval('tickets')`)).toBe('501')
    bench.sql(`select setval('tickets', 900); alter sequence taken_id_seq restart; delete from taken where id > 3`)
    const whole = await bench.restore(vessel, point, { picks: [bench.path('public', 'tickets'), bench.path('public', 'taken')] })
    expect(unwell(whole.receipts)).toEqual([])
    expect(bench.sql(`select nextval('tickets'), nextval('taken_id_seq')`)).toBe('501|31')
    bench.sql(`select setval('tickets', 500), setval('taken_id_seq', 30)`)
  })

  it('are the same only when they stand at the same number', async () => {
    const { receipts } = await bench.restore(vessel, point, { picks: [bench.path('public', 'tickets')] })
    expect(receipts).toMatchObject([{ outcome: 'left', equal: true }])
  })
})

describe('a whole database', () => {
  it('is as it was, with what belongs to itself, to public, to extensions and to the system’s own views', async () => {
    const before = dump()
    bench.sql(`grant all on schema public to public; comment on schema public is 'theirs'; grant execute on function similarity(text, text) to public; grant select on pg_stats to public;
      drop aggregate counted(*); drop type shell_t; select setval('tickets', 3); drop table elsewhere; create table elsewhere (id int primary key); insert into holds values (2, null);
      do $$ begin execute format('alter database %I set work_mem = %L', current_database(), '9MB'); execute format('alter database %I set jit = off', current_database());
        execute format('comment on database %I is null', current_database()); execute format('alter database %I owner to wharf_thief', current_database());
        execute format('grant all on database %I to wharf_thief', current_database()); execute format('grant connect on database %I to public', current_database());
        execute format('alter role wharf_reader in database %I reset all', current_database()); execute format('alter database %I connection limit -1', current_database()); end $$`)
    const { run, receipts } = await bench.restore(vessel, point, {})
    expect(run.error).toBeNull()
    expect(unwell(receipts)).toEqual([])
    expect(dump()).toBe(before)
  })

  it('is the same elsewhere', async () => {
    const database = `${bench.database}_twin`
    const { run, receipts } = await bench.restore(vessel, point, { into: { mode: 'elsewhere', source: 'db', database } })
    expect(run.error).toBeNull()
    expect(unwell(receipts)).toEqual([])
    expect(dump(database)).toBe(dump())
    // The same comparison is part of the proof.
    expect(receipts.find(({ path }) => path.endsWith('/structure as a whole'))).toMatchObject({
      outcome: 'compared',
      equal: true,
      reason: expect.stringMatching(/^All \d{2,} statements are the same/),
    })
    bench.server.psql('postgres', `drop database ${database} with (force)`)
  })
})
