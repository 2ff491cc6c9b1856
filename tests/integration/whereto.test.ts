import { join } from 'node:path'
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest'
import pg from 'pg'
import { freePort, PostgresServer } from '../../demo/postgres-server'
import { addSource } from '../../engine/catalog/sources'
import { compareTable } from '../../engine/compare/table'
import type { Vessel } from '../../engine/catalog/vessels'
import { scratchConnection, scratchCopies } from '../../engine/catalog/scratch-views'
import { dropExpired } from '../../engine/runs/scratch'
import { expireKept, takeBack } from '../../engine/runs/take-back'
import { perform } from '../../engine/runs/runner'
import { addRun } from '../../engine/catalog/runs'
import { Workbench } from '../support/engine'
import { SHIPS } from '../support/ships'

// Where things go, and what is done where something of the same name stands.

let bench: Workbench
let vessel: Vessel
let point: string

beforeAll(async () => {
  bench = await Workbench.open(SHIPS)
  vessel = await bench.vessel()
  point = await bench.backup(vessel)
})
afterAll(() => bench?.close())

const LEGS = 'select count(*), sum(hashtext(l::text)::bigint) from sales.leg l'
const leg = () => bench.path('sales', 'leg')

async function doRun(kind: 'restore', params: object) {
  const id = await addRun(bench.engine, { kind, vessel, startedBy: 'a test', params: params as Record<string, unknown> })
  await perform(bench.engine, id)
  return bench.record(id)
}

describe('merging', () => {
  it('adds only the rows whose key is missing, proven, and leaves changed ones as they are', async () => {
    bench.sql(`delete from sales.refund where leg_id between 10 and 30; delete from sales.leg where leg_id between 10 and 19; update sales.leg set fare = 1 where leg_id = 50;
      insert into sales.leg (booking_id, fare) values (1, 3)`)
    const { run, receipts } = await bench.restore(vessel, point, { picks: [leg()], collide: 'merge' })
    expect(run.error).toBeNull()
    expect(receipts[0]).toMatchObject({ outcome: 'merged', rows: 10 })
    expect(receipts[0]!.fingerprint_now).toBe(receipts[0]!.fingerprint_then)
    expect(bench.sql('select count(*) from sales.leg where leg_id between 10 and 19')).toBe('10')
    expect(bench.sql('select fare from sales.leg where leg_id = 50')).toBe('1.00')
    expect(bench.sql('select count(*) from sales.leg')).toBe('3001')
  })

  it('is taken back with one action', async () => {
    const before = bench.sql(LEGS)
    bench.sql('delete from sales.leg where leg_id = 12')
    const after = bench.sql(LEGS)
    const { run } = await bench.restore(vessel, point, { picks: [leg()], collide: 'merge' })
    expect(bench.sql(LEGS)).toBe(before)
    const undone = await doRun('restore', await takeBack(bench.engine, run.id))
    expect(undone.error).toBeNull()
    expect(bench.sql(LEGS)).toBe(after)
  })
})

describe('picked rows', () => {
  it('come back alone: missing ones added, chosen columns overwritten', async () => {
    bench.sql('delete from sales.leg where leg_id in (21, 22); update sales.leg set fare = 2, state = default where leg_id in (23, 24)')
    const rows = { [leg()]: { keys: [['21'], ['23']], overwrite: ['fare'] } }
    const { run, receipts } = await bench.restore(vessel, point, { picks: [leg()], rows })
    expect(run.error).toBeNull()
    expect(receipts[0]).toMatchObject({ outcome: 'merged', rows: 2, equal: true })
    expect(bench.sql('select leg_id, fare, state from sales.leg where leg_id in (21, 22, 23, 24) order by 1')).toBe(
      '21|21.50|held\n23|23.50|held\n24|2.00|held',
    )
    expect(bench.sql(`select tgenabled from pg_trigger where tgname = 'never'`)).toBe('O')
  })

  it('that are not in the point are refused, and nothing is changed', async () => {
    const before = bench.sql(LEGS)
    const { run } = await bench.restore(vessel, point, {
      picks: [leg()],
      rows: { [leg()]: { keys: [['22'], ['999999']], overwrite: null } },
    })
    expect(run).toMatchObject({ state: 'failed', error: { code: 'key_missing' } })
    expect(bench.sql(LEGS)).toBe(before)
  })
})

describe('structure only, and rows only', () => {
  it('makes a table without its rows', async () => {
    const into = { mode: 'beside' as const, schema: 'empty', prefix: '', suffix: '', names: {} }
    const { run, receipts } = await bench.restore(vessel, point, { picks: [leg()], what: 'structure', into })
    expect(run.error).toBeNull()
    expect(receipts.find(({ path }) => path === leg())).toMatchObject({ outcome: 'renamed', equal: true, fingerprint_now: null })
    expect(bench.sql('select count(*) from empty.leg')).toBe('0')
    bench.sql('drop schema empty cascade')
  })

  it('puts rows into a table that has more columns now, and keeps its structure', async () => {
    bench.sql('alter table sales.ship add column flag text default $$none$$; update sales.ship set name = $$x$$ || ship_id')
    const { run } = await bench.restore(vessel, point, { picks: [bench.path('sales', 'ship')], what: 'rows' })
    expect(run.error).toBeNull()
    expect(bench.sql('select name, flag from sales.ship where ship_id = 7')).toBe('Ship 7|none')
    bench.sql('alter table sales.ship drop column flag')
  })

  it('refuses rows that do not fit the table of now', async () => {
    bench.sql('alter table sales.refund alter column reason type int using 1')
    const { run } = await bench.restore(vessel, point, { picks: [bench.path('sales', 'refund')], what: 'rows' })
    expect(run).toMatchObject({ state: 'failed', error: { code: 'other_structure', touched: 'Nothing was changed.' } })
    bench.sql('alter table sales.refund alter column reason type text using null')
  })
})

describe('another database', () => {
  it('is made when it is not there, with owners mapped', async () => {
    const database = `${bench.database}_far`
    const into = { mode: 'elsewhere' as const, source: 'db', database }
    const { run, receipts } = await bench.restore(vessel, point, {
      picks: [bench.path('sales')],
      into,
      roles: { harbour_clerk: 'postgres' },
    })
    expect(run.error).toBeNull()
    expect(receipts.filter(({ outcome, equal }) => outcome === 'failed' || equal === false)).toEqual([])
    const far = (sql: string) => bench.server.psql(database, sql)
    expect(far('select count(*) from sales.leg')).toBe('3000')
    expect(far(`select tableowner from pg_tables where tablename = 'leg'`)).toBe('postgres')
    expect(far('select count(*) from sales.leg_with_ship')).toBe('3000')
    bench.server.psql('postgres', `drop database ${database}`)
  })

  it('brings along what a picked table refers to, and what it needs', async () => {
    const database = `${bench.database}_along`
    const into = { mode: 'elsewhere' as const, source: 'db', database }
    const { run, receipts } = await bench.restore(vessel, point, { picks: [bench.path('sales', 'refund')], into })
    expect(run.error).toBeNull()
    const names = receipts.map(({ path }) => path.split('/').at(-1))
    expect(names).toEqual(expect.arrayContaining(['refund', 'leg', 'booking', 'ship', 'leg_state', 'fare']))
    expect(bench.server.psql(database, 'select count(*) from sales.leg')).toBe('3000')
    bench.server.psql('postgres', `drop database ${database}`)
  })

  it('makes roles that are missing, by choice', async () => {
    bench.server.psql('postgres', 'create role passing_clerk')
    bench.sql('alter table sales.booking owner to passing_clerk')
    const backup = await bench.backup(vessel)
    bench.sql('alter table sales.booking owner to postgres')
    bench.server.psql('postgres', 'drop role passing_clerk')
    const database = `${bench.database}_roles`
    const into = { mode: 'elsewhere' as const, source: 'db', database }
    const { run, receipts } = await bench.restore(vessel, backup, { picks: [bench.path('sales', 'booking')], into, makeRoles: true })
    expect(run.error).toBeNull()
    expect(receipts.some(({ path }) => path === 'db/role passing_clerk')).toBe(true)
    expect(bench.server.psql(database, `select tableowner from pg_tables where tablename = 'booking'`)).toBe('passing_clerk')
    bench.server.psql('postgres', `drop database ${database}`)
    bench.server.psql('postgres', 'drop role passing_clerk')
  })
})

describe('another server', () => {
  it('takes a database whole, proven there', async () => {
    const port = await freePort()
    const far = new PostgresServer({ folder: join(inject('folder'), 'far'), port, password: 'far away', settings: { fsync: 'off' } })
    far.create()
    far.start()
    try {
      await addSource(bench.engine, { name: 'far', password: 'far away', settings: { ...bench.settings, port } })
      const into = { mode: 'elsewhere' as const, source: 'far', database: 'harbour copy' }
      const left = await bench.restore(vessel, point, { into })
      expect(left.run.error).toBeNull()
      // Roles belong to a server, so they are not there.
      expect((await bench.messages(left.run.id)).join()).toContain('The role harbour_clerk does not exist at the target')
      far.psql('postgres', 'drop database "harbour copy"')
      const made = await bench.restore(vessel, point, { into, makeRoles: true })
      expect(made.receipts.filter(({ outcome, equal }) => outcome === 'failed' || equal === false)).toEqual([])
      expect(made.run.state).toBe('done')
      expect(far.psql('harbour copy', 'select count(*) from sales.leg')).toBe('3000')
      expect(far.psql('harbour copy', `select tableowner from pg_tables where tablename = 'leg'`)).toBe('harbour_clerk')
    } finally {
      far.remove()
    }
  })

  it('makes a database with the order of its texts, whoever provides it', async () => {
    const database = `${bench.database}_icu`
    bench.server.psql('postgres', `create database ${database} template template0 locale_provider icu icu_locale 'sv-SE'`)
    bench.server.psql(database, `create table harbour (name text); insert into harbour values ('Å'), ('Z'), ('A')`)
    const vesselOfOther = await bench.vessel('Of another order', [`db/${database}`])
    const held = await bench.backup(vesselOfOther)
    const order = () => bench.server.psql(database, `select string_agg(name, '' order by name) from harbour`)
    expect(order()).toBe('AZÅ')
    bench.server.psql('postgres', `drop database ${database}`)
    expect((await bench.restore(vesselOfOther, held, { picks: [`db/${database}`] })).run.error).toBeNull()
    expect(order()).toBe('AZÅ')
    bench.server.psql('postgres', `drop database ${database}`)
  })

  it('that is gone is told before anything is done', async () => {
    const { run } = await bench.restore(vessel, point, { into: { mode: 'elsewhere', source: 'far', database: 'x' } })
    expect(run).toMatchObject({ state: 'failed', error: { code: 'unreachable', touched: 'Nothing was changed.' } })
  })
})

describe('a source that is gone while then and now are compared', () => {
  it('is told, and nothing is half-done', async () => {
    bench.sql('create table sales.long as select g, md5(g::text) as note from generate_series(1, 400000) g')
    const backup = await bench.backup(vessel)
    bench.sql(`update sales.long set note = note || 'x'`)
    const comparing = compareTable(bench.engine, backup, bench.path('sales', 'long'), 10)
    comparing.catch(() => undefined)
    const kill = `select count(pg_terminate_backend(pid)) from pg_stat_activity
      where datname = '${bench.database}' and application_name = 'unbroken-vessel' and query like 'copy %long%'`
    const other = new pg.Client({ connectionString: bench.server.url('postgres') })
    await other.connect()
    while (Number((await other.query<{ count: string }>(kill)).rows[0]!.count) === 0);
    await other.end()
    await expect(comparing).rejects.toMatchObject({
      code: 'connection_lost',
      touched: 'Nothing was changed; what was compared so far is dropped.',
    })
    bench.sql('drop table sales.long')
  })
})

describe('a scratch copy', () => {
  it('that cannot be made says why, and leaves nothing', async () => {
    bench.server.psql('postgres', `create role humble login password 'humble'; grant pg_read_all_data to humble`)
    await addSource(bench.engine, { name: 'humble', password: 'humble', settings: { ...bench.settings, user: 'humble' } })
    const { run } = await bench.restore(vessel, point, { into: { mode: 'scratch', source: 'humble', hours: 1 } })
    expect(run).toMatchObject({ state: 'failed', error: { code: 'may_not_create_database', touched: 'Nothing was changed.' } })
    expect(await scratchCopies(bench.engine, vessel.id)).toEqual([])
  })

  it('can be used with its own connection string, and goes when its time is over', async () => {
    const into = { mode: 'scratch' as const, source: 'db', hours: 2 }
    const { run } = await bench.restore(vessel, point, { picks: [bench.path()], into })
    expect(run.error).toBeNull()
    const [copy] = await scratchCopies(bench.engine, vessel.id)
    expect(copy).toMatchObject({ state: 'ready', run: run.id })
    const client = new pg.Client({ connectionString: await scratchConnection(bench.engine, copy!.id) })
    await client.connect()
    const { rows } = await client.query('select count(*)::int as n from sales.leg')
    expect(rows[0]).toEqual({ n: 3000 })
    await client.query('delete from sales.refund')
    await client.end()
    await bench.engine.db
      .updateTable('scratch')
      .set({ expires_at: new Date(0) })
      .execute()
    await dropExpired(bench.engine)
    expect(await scratchCopies(bench.engine, vessel.id)).toEqual([])
    expect(bench.server.psql('postgres', `select count(*) from pg_database where datname like 'scratch%'`)).toBe('0')
    expect(bench.server.psql('postgres', `select count(*) from pg_roles where rolname like 'scratch%'`)).toBe('0')
  })
})

describe('things without rows', () => {
  it('that changed are replaced, with what stands upon them, kept first and taken back', async () => {
    const definition = () => bench.sql(`select pg_get_viewdef('sales.leg_with_ship'::regclass)`)
    const before = definition()
    bench.sql(`drop view sales.leg_with_ship; create view sales.leg_with_ship as select leg_id, 'nobody'::text as name from sales.leg;
      create view sales.over_it as select name from sales.leg_with_ship;
      create or replace function sales.next_code() returns text language sql as $$ select 'changed' $$`)
    const changed = definition()
    const picks = [bench.path('sales', 'leg_with_ship'), bench.path('sales', 'next_code()')]
    const { run, receipts } = await bench.restore(vessel, point, { picks })
    expect(run.error).toBeNull()
    expect(receipts.map(({ outcome, equal }) => [outcome, equal])).toEqual([
      ['replaced', true],
      ['replaced', true],
      ['compared', true],
    ])
    expect(definition()).toBe(before)
    expect(bench.sql('select sales.next_code()')).toMatch(/^QM/)
    expect(bench.sql('select count(*) from sales.over_it')).toBe(bench.sql('select count(*) from sales.leg'))
    const undone = await doRun('restore', await takeBack(bench.engine, run.id))
    expect(undone.error).toBeNull()
    expect(definition()).toBe(changed)
    expect(bench.sql('select sales.next_code()')).toBe('changed')
    bench.sql('drop view sales.over_it')
  })

  it('go beside the original under other names, rights and comments with them', async () => {
    const into = { mode: 'beside' as const, schema: null, prefix: 'old_', suffix: '', names: {} }
    const picks = ['leg_with_ship', 'fares_by_state', 'next_code()', 'leg_state'].map((name) => bench.path('sales', name))
    const { run, receipts } = await bench.restore(vessel, point, { picks, into })
    expect(run.error).toBeNull()
    expect(receipts.map(({ outcome }) => outcome)).toEqual(['renamed', 'renamed', 'renamed', 'renamed'])
    expect(bench.sql('select count(*) from sales.old_leg_with_ship')).not.toBe('0')
    expect(bench.sql(`select has_table_privilege('harbour_clerk', 'sales.old_leg_with_ship', 'select')`)).toBe('t')
    expect(bench.sql('select count(*) from sales.old_fares_by_state')).toBe('3')
    bench.sql(
      'drop view sales.old_leg_with_ship; drop materialized view sales.old_fares_by_state; drop function sales.old_next_code(); drop type sales.old_leg_state',
    )
  })
})

describe('what is kept before an overwriting', () => {
  it('is kept for the time that was chosen, and then let go', async () => {
    const { run } = await bench.restore(vessel, point, { picks: [bench.path('sales', 'refund')], keepDays: 3 })
    const kept = () => bench.engine.db.selectFrom('point').selectAll().where('kept_for', '=', run.id).execute()
    const [newest] = await kept()
    expect(Math.round((newest!.expires_at!.getTime() - newest!.at.getTime()) / 86_400_000)).toBe(3)
    await expireKept(bench.engine)
    expect(await kept()).toHaveLength(1)
    await bench.engine.db
      .updateTable('point')
      .set({ expires_at: new Date(0) })
      .where('id', '=', newest!.id)
      .execute()
    await expireKept(bench.engine)
    expect(await kept()).toEqual([])
    await expect(takeBack(bench.engine, run.id)).rejects.toMatchObject({ code: 'nothing_kept' })
  })
})
