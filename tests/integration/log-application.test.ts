import { afterAll, describe, expect, it, vi } from 'vitest'
import pg from 'pg'
import type { LogPlan } from '../../core/plan/definition'
import { changeReach } from '../../engine/catalog/source-access'
import { accessOf } from '../../engine/catalog/sources'
import { withClient } from '../../engine/sources/postgres/connect'
import { readStructure } from '../../engine/sources/postgres/utilities'
import { LogBench } from '../support/log'

// Following a log never makes a statement of the application fail, wait or deadlock, and its event triggers see
// nothing of ours. The application here is psql: another client, with settings of its own.

/** Every way in which a key can fail to identify rows for publication. */
const UNFIT = {
  postponed: `create table postponed (id int, v text, primary key (id) deferrable)`,
  deferred_index: `create table deferred_index (id int not null, v text, unique (id) deferrable)`,
  partial: `create table partial (id int not null, v text); create unique index on partial (id) where id > 0`,
  expression: `create table expression (id int not null, v text); create unique index on expression ((id + 0))`,
  nullable: `create table nullable (id int unique, v text)`,
  silent: `create table silent (id int primary key, v text); alter table silent replica identity nothing`,
  lost_index: `create table lost_index (id int not null, v text); create unique index lost_id on lost_index (id);
    alter table lost_index replica identity using index lost_id; drop index lost_id`,
}
const NAMES = Object.keys(UNFIT)
const fill = (name: string) => `insert into ${name} values (1, 'a'), (2, 'b')`
const change = (name: string) => `update ${name} set v = v || 'x'; update ${name} set id = id + 10; delete from ${name} where id = 12`

const benches: LogBench[] = []
async function opened(sql: string, plan: Partial<LogPlan> = {}): Promise<LogBench> {
  const log = await LogBench.open(sql, plan)
  benches.push(log)
  return log
}
afterAll(async () => {
  for (const log of benches) await log.close()
})

describe.each(['trigger', 'compare'] as const)('tables whose key can’t identify rows, with structure noticed by %s', (structure) => {
  it('take updates and deletes of the application, whether they were there before or are made later', async () => {
    const before = NAMES.map((name) => `${UNFIT[name as keyof typeof UNFIT]}; ${fill(name)};`).join('\n')
    const log = await opened(`create table sound (id int primary key, v text); ${fill('sound')}; ${before}`, { structure })
    await log.bench.backup(log.vessel)
    log.follow()
    await log.flush()
    for (const name of [...NAMES, 'sound']) log.bench.sql(change(name))
    const later = NAMES.map((name) =>
      UNFIT[name as keyof typeof UNFIT].replaceAll(name, `later_${name}`).replaceAll('lost_id', 'later_lost_id'),
    )
    for (const [i, statement] of later.entries()) log.bench.sql(`${statement}; ${fill(`later_${NAMES[i]}`)}`)
    // Also once ours has noticed them.
    await vi.waitFor(
      async () => {
        await log.flush()
        const names = Object.values((await log.row()).tables).map(({ name }) => name)
        expect(names).toEqual(expect.arrayContaining(NAMES.map((name) => `later_${name}`)))
      },
      { timeout: 30_000, interval: 300 },
    )
    for (const name of NAMES) log.bench.sql(change(`later_${name}`))
    const followed = Object.values((await log.row()).tables).filter(({ since }) => since !== null)
    expect(followed.map(({ name }) => name)).toEqual(['sound'])
    const unfollowed = Object.values((await log.row()).tables).filter(({ since }) => since === null)
    expect(unfollowed.every(({ why }) => why !== null && why.length > 10)).toBe(true)
  })
})

describe('an identity that is lost in the middle of a transaction', () => {
  it('never refuses what the same transaction does next', async () => {
    const log = await opened(
      `create table losing (id int primary key, v text); ${fill('losing')}; create table turning (id int primary key, v text); ${fill('turning')};
       create table swapped (id int primary key, v text); ${fill('swapped')}`,
    )
    await log.bench.backup(log.vessel)
    log.follow()
    log.bench.sql(`begin; alter table losing drop constraint losing_pkey; ${change('losing')}; commit; ${change('losing')}`)
    log.bench.sql(
      `begin; alter table turning drop constraint turning_pkey, add primary key (id) deferrable; ${change('turning')}; commit; ${change('turning')}`,
    )
    log.bench.sql(`alter table swapped replica identity nothing; ${change('swapped')}`)
    await log.flush()
    expect(log.rows('losing')).toEqual(['21\taxx'])
  })
})

describe('event triggers of the application', () => {
  const WATCHED = `
    create table noted (tag text, what text, by text default current_setting('application_name'));
    create function note() returns event_trigger language plpgsql security definer set search_path = public as $$ declare r record; begin
      if tg_event = 'ddl_command_end' then
        for r in select * from pg_event_trigger_ddl_commands() loop insert into noted values (tg_tag, r.object_identity); end loop;
      else insert into noted values (tg_tag, tg_event); end if; end $$;
    create event trigger notes on ddl_command_end execute function note();
    create event trigger starts on ddl_command_start execute function note();
    create event trigger drops on sql_drop execute function note();
    create table item (id int primary key, v text); ${fill('item')};
    create view items as select * from item; create table other (id int primary key); truncate noted`

  it('see nothing of what following a log puts onto the source, or does there later', async () => {
    const log = await opened(WATCHED)
    await log.bench.backup(log.vessel)
    log.follow()
    await log.flush()
    expect(log.rows('noted')).toEqual([])
    log.bench.sql('create table fresh (id int primary key); alter table fresh drop constraint fresh_pkey; drop table other')
    await log.flush()
    const seen = log.rows('noted').map((line) => line.split('\t')[1])
    expect(seen.filter((what) => /publication|unbroken/.test(what!))).toEqual([])
    expect(log.bench.sql(`select distinct by from noted`)).toBe('psql')
    expect(
      log.bench.sql(`select distinct tag from noted where what not like 'ddl%' and what <> 'sql_drop' order by 1`).split('\n'),
    ).toEqual(['ALTER TABLE', 'CREATE TABLE'])
  })

  it('fire for nothing that a restore does, even those that are to fire always, and are switched as before', async () => {
    const log = await opened(WATCHED)
    const { bench, vessel } = log
    const point = await bench.backup(vessel)
    bench.sql(
      `alter event trigger notes enable always; alter event trigger starts enable replica; drop view items; alter table item add column w int; drop table other; delete from noted`,
    )
    const states = () =>
      bench.sql(`select string_agg(evtname || evtenabled::text, ' ' order by evtname) from pg_event_trigger where evtname !~ 'unbroken'`)
    const before = states()
    const picks = [bench.path('public', 'item'), bench.path('public', 'items'), bench.path('public', 'other')]
    const { run, receipts } = await bench.restore(vessel, point, { picks })
    expect(run.error).toBeNull()
    expect(receipts.map(({ outcome }) => outcome)).not.toContain('failed')
    expect(log.rows('(select * from items)')).toEqual(['1\ta', '2\tb'])
    expect(log.rows('noted')).toEqual([])
    expect(states()).toBe(before)
  })
})

describe('a transaction of the application that wants two tables', () => {
  const TABLES = 'create table a_first (id int primary key); create table b_second (id int primary key)'
  it.each(['a superuser', 'a plain role'])('is never ended for a deadlock with our reading of the structure, as %s', async (who) => {
    const log = await opened(TABLES)
    const { bench } = log
    let access = await accessOf(bench.engine, 'db')
    if (who === 'a plain role') {
      bench.sql(`do $$ begin if not exists (select from pg_roles where rolname = 'plain_reader') then
        create role plain_reader login password 'x'; grant pg_read_all_data to plain_reader; end if; end $$`)
      access = { ...access, settings: { ...access.settings, user: 'plain_reader' }, password: 'x' }
    }
    const application = new pg.Client(bench.server.url(bench.database))
    await application.connect()
    const waits = `select exists (select from pg_locks l join pg_stat_activity a using (pid) where a.application_name = 'unbroken-vessel'
      and not l.granted and l.relation = 'b_second'::regclass) as waits`
    const watcher = new pg.Client(bench.server.url(bench.database))
    await watcher.connect()
    try {
      await application.query('begin; lock table b_second in access exclusive mode')
      const reading = withClient(access, bench.database, (client) => readStructure(access, bench.database, client))
      reading.catch(() => undefined)
      // It has the first table by now, and wants the second one.
      await vi.waitFor(async () => expect((await watcher.query(waits)).rows[0].waits).toBe(true), { timeout: 10_000, interval: 5 })
      await application.query('lock table a_first in access exclusive mode')
      await application.query('commit')
      const entries = await reading
      expect(entries.filter(({ type }) => type === 'TABLE').map(({ name }) => name)).toEqual(['a_first', 'b_second'])
    } finally {
      await application.end()
      await watcher.end()
    }
  })

  it('gets both at once while a backup waits for one of them, and the backup has both afterwards', async () => {
    const log = await opened(`${TABLES}; insert into a_first values (1); insert into b_second values (2)`)
    const { bench, vessel } = log
    const application = new pg.Client(bench.server.url(bench.database))
    await application.connect()
    try {
      await application.query('begin; lock table b_second in access exclusive mode')
      const backup = bench.backup(vessel)
      backup.catch(() => undefined)
      await new Promise((resolve) => setTimeout(resolve, 1500))
      await application.query('lock table a_first in access exclusive mode')
      await application.query('commit')
      expect(await log.rowsAt(await backup, 'public.b_second')).toEqual(['2'])
    } finally {
      await application.end()
    }
  })
})

describe('settings of the connecting role', () => {
  it('change nothing of what is read or written', async () => {
    const log = await opened(
      `create type odd as enum (e'back\\\\slash', 'it''s'); create table ünïcode (id int primary key, v text, o odd, a text[], d timestamptz, x xml);
       insert into ünïcode values (1, 'ß', e'back\\\\slash', array['NULL', null, 'x'], '2026-03-01 10:00', '<a>ü</a>');
       create function ä() returns text language sql as $$ select 'it''s \\ ' || chr(228) $$; create view überblick as select * from ünïcode where o = 'it''s'`,
    )
    const { bench, vessel } = log
    const before = bench.server.dump(bench.database, [])
    const odd = `odd_${bench.database}`
    bench.sql(`create role ${odd} superuser login password 'x'; create role ${odd}_weak`)
    for (const setting of [
      `client_encoding = 'LATIN1'`,
      'standard_conforming_strings = off',
      'array_nulls = off',
      `datestyle = 'SQL, DMY'`,
      `intervalstyle = iso_8601`,
      'quote_all_identifiers = on',
      'extra_float_digits = -3',
      'bytea_output = escape',
      'default_transaction_read_only = on',
      `search_path = 'public, pg_catalog'`,
      'default_transaction_isolation = serializable',
      'session_replication_role = replica',
      'statement_timeout = 500',
      'transform_null_equals = on',
      'xmloption = document',
      `role = ${odd}_weak`,
    ])
      bench.sql(`alter role ${odd} set ${setting}`)
    const { id, settings, password } = await accessOf(bench.engine, 'db')
    await changeReach(bench.engine, id, { settings: { ...settings, user: odd }, password: 'x' })
    try {
      const point = await bench.backup(vessel)
      const database = `${bench.database}_odd`
      const { run, receipts } = await bench.restore(vessel, point, { into: { mode: 'elsewhere', source: 'db', database } })
      expect(run.error).toBeNull()
      expect(receipts.filter(({ outcome, equal, left_parts: left }) => outcome === 'failed' || equal === false || left.length > 0)).toEqual(
        [],
      )
      expect(bench.server.dump(database, [])).toBe(before)
      bench.server.psql('postgres', `drop database ${database}`)
    } finally {
      await changeReach(bench.engine, id, { settings, password })
      bench.sql(`reassign owned by ${odd} to postgres; drop owned by ${odd}; drop role ${odd}; drop role ${odd}_weak`)
    }
  })
})
