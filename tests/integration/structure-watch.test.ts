import pg from 'pg'
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'
import { accessById } from '../../engine/catalog/sources'
import { StructureWatch } from '../../engine/log/structure'
import { DatabaseCapture } from '../../engine/sources/postgres/capture'
import { Workbench } from '../support/engine'
import { waitForLog } from '../../engine/log/wait'
import { noRows, openPoint } from '../../engine/points/open'
import { LogBench, type Moment } from '../support/log'

// What happens to the structure of a source whose changes no trigger tells, while it is read and compared.

let bench: Workbench
beforeAll(async () => {
  bench = await Workbench.open(`create table item (id int primary key, v text); create publication watched for table item`)
})
afterAll(() => bench?.close())

async function watchOf(): Promise<StructureWatch> {
  const { id } = await bench.engine.db.selectFrom('source').select('id').where('name', '=', 'db').executeTakeFirstOrThrow()
  const rules = [{ id: 'a', act: 'take' as const, kind: 'database' as const, pattern: bench.path() }]
  const member = { database: bench.database, publication: 'watched', rules, trigger: false }
  const begin = bench.sql('select pg_current_wal_lsn()')
  const watch = new StructureWatch(
    await accessById(bench.engine, id),
    member,
    { tables: [], followed: {} },
    new AbortController().signal,
    begin,
  )
  watch.changed()
  await watch.settled()
  return watch
}
const namesOf = ({ model }: StructureWatch) => model.tables.map(({ name }) => name).sort()
const published = () =>
  bench.sql(`select string_agg(tablename, ',' order by tablename) from pg_publication_tables where pubname = 'watched'`)

const at = async (log: LogBench, moment: { position: string }) =>
  (await openPoint(log.bench.engine, log.ref(moment), noRows)).members[0]!.manifest.databases[0]!

/** Whether a moment shows the column that was added before it, or tells that it may not. */
async function isHonest(log: LogBench, moment: Moment): Promise<boolean> {
  const { tables } = await at(log, moment)
  return tables.find(({ name }) => name === 'sea')!.columns.includes('w') || (await log.isTold(moment, 'public.sea'))
}

/** Until it is certain what was changed up to a moment. */
async function looked(log: LogBench, moment: { position: string }): Promise<void> {
  // Whoever waits for the log has it looked at, which makes looks certain that are rare on a busy machine.
  const isLooked = async () => {
    log.bench.sql(`update sea set v = v || '.' where id = 2`)
    await log.flush()
    return (await at(log, moment)).missing.every(({ reason }) => !reason.includes('nobody has looked'))
  }
  await vi.waitFor(async () => expect(await isLooked()).toBe(true), { timeout: 60_000, interval: 500 })
}

describe('the structure of a source without a trigger', () => {
  it('is compared with what was read, so that nothing done between the reading and the first look is missed', async () => {
    const watch = await watchOf()
    bench.sql('create table made (id int primary key)')
    expect(await watch.compare()).toBe(true)
    await watch.settled()
    expect(namesOf(watch)).toEqual(['item', 'made'])
    expect(published()).toBe('item,made')
  })

  it('is read once for each change, and not when nothing changed', async () => {
    const watch = await watchOf()
    expect(await watch.compare()).toBe(false)
    bench.sql('alter table item add column w int')
    expect(await watch.compare()).toBe(true)
    await watch.settled()
    expect(watch.model.tables.find(({ name }) => name === 'item')!.columns).toEqual(['id', 'v', 'w'])
    expect(await watch.compare()).toBe(false)
    bench.sql('drop table made')
    expect(await watch.compare()).toBe(true)
    await watch.settled()
    expect(namesOf(watch)).toEqual(['item'])
    expect(published()).toBe('item')
  })
})

describe('a log whose source has no trigger', () => {
  it('follows what was made while nobody followed, though nothing else happens there', async () => {
    const log = await LogBench.open('create table item (id int primary key, v text)', { structure: 'compare' })
    try {
      await log.bench.backup(log.vessel)
      log.follow()
      await log.flush()
      await log.unfollow()
      log.bench.sql(`create table made (id int primary key, v text); insert into made values (1, 'early')`)
      log.follow()
      const followed = async () => Object.values((await log.row()).tables).map(({ name, since }) => [name, since !== null])
      await vi.waitFor(
        async () =>
          expect((await followed()).sort()).toEqual([
            ['item', true],
            ['made', true],
          ]),
        { timeout: 20_000 },
      )
      await log.unfollow()
      const segments = await log.segments()
      // Where nothing was changed, to begin again leaves nothing behind.
      log.follow()
      log.bench.sql('select pg_switch_wal()')
      const here = log.bench.sql('select pg_current_wal_lsn()')
      await waitForLog(log.bench.engine, log.vessel.id, log.member, here, new AbortController().signal)
      expect(await log.segments()).toEqual(segments)
    } finally {
      await log.close()
    }
  })

  it('says of moments after which nobody looked that the structure is not known yet', async () => {
    const log = await LogBench.open(
      `create type mood as enum ('calm', 'rough'); create table sea (id int primary key, m mood default 'calm'); insert into sea (id) select generate_series(1, 5)`,
      { structure: 'compare' },
    )
    const told = async (moment: Moment) => {
      const { manifest } = (await openPoint(log.bench.engine, log.ref(moment), noRows)).members[0]!
      return manifest.databases[0]!.missing.map(({ reason }) => reason).join(' ')
    }
    try {
      await log.bench.backup(log.vessel)
      log.follow(60_000)
      const quiet = log.moment('public.sea')
      await log.flush()
      await vi.waitFor(async () => expect(await told(quiet)).toBe(''), { timeout: 20_000, interval: 200 })
      vi.spyOn(StructureWatch.prototype, 'compare').mockResolvedValue(false)
      log.bench.sql(`alter type mood rename value 'calm' to 'still'; insert into sea (id) values (6)`)
      const changed = log.moment('public.sea')
      await log.flush()
      expect(await told(changed)).toContain('nobody has looked')
      vi.restoreAllMocks()
      await vi.waitFor(async () => expect(await told(changed)).not.toContain('nobody has looked'), { timeout: 20_000, interval: 200 })
      expect(await told(changed)).toContain('does not tell when')
      await log.holds(quiet)
      log.bench.sql('insert into sea (id) values (7)')
      const later = log.moment('public.sea')
      await log.flush()
      await expect(log.rowsAt(log.ref(later), 'public.sea')).rejects.toThrow('not known')
    } finally {
      vi.restoreAllMocks()
      await log.close()
    }
  })

  it('tells of a moment between two looks that what came and went, or was changed and changed back, is not known', async () => {
    const log = await LogBench.open(
      `create table sea (id int primary key, v text); insert into sea select 2, ''; create function two() returns int language sql as 'select 2'`,
      { structure: 'compare' },
    )
    const toldOf = async (moment: { position: string }) => (await at(log, moment)).missing.filter(({ path }) => path === log.member)
    try {
      await log.bench.backup(log.vessel)
      log.follow(60_000)
      const before = log.moment('public.sea')
      await log.flush()
      const compare = vi.spyOn(StructureWatch.prototype, 'compare').mockResolvedValue(false)
      log.bench.sql(
        `insert into sea values (3, ''); create table gone (id int primary key); create or replace function two() returns int language sql as 'select 3'`,
      )
      const between = log.moment('public.gone')
      log.bench.sql(
        `insert into sea values (4, ''); drop table gone; create or replace function two() returns int language sql as 'select 2'`,
      )
      compare.mockRestore()
      await looked(log, between)
      expect(await toldOf(between)).toEqual([expect.objectContaining({ reason: expect.stringContaining('what came and went') as string })])
      expect(await toldOf(before)).toEqual([])
      log.bench.sql(`alter table sea add column w int; create or replace function two() returns int language sql as 'select 4'`)
      const both = log.moment('public.sea')
      await looked(log, both)
      expect((await toldOf(both)).length === 1 || (await at(log, both)).entries.some(({ sql }) => sql.includes('select 4'))).toBe(true)
    } finally {
      vi.restoreAllMocks()
      await log.close()
    }
  })

  it('does not show the structure of before at a moment between a reading and its place in the log', async () => {
    const log = await LogBench.open(`create table sea (id int primary key, v text); insert into sea (id) select generate_series(1, 5)`, {
      structure: 'compare',
    })
    try {
      await log.bench.backup(log.vessel)
      log.follow(60_000)
      await log.flush()
      // The reading has seen the new column, and is kept from saying so.
      let letGo = () => {}
      const held = new Promise<void>((resolve) => (letGo = resolve))
      let saw = () => {}
      const seen = new Promise<void>((resolve) => (saw = resolve))
      const close = DatabaseCapture.prototype.close
      vi.spyOn(DatabaseCapture.prototype, 'close').mockImplementation(async function (this: DatabaseCapture) {
        if (this.tables.some(({ columns }) => columns.includes('w'))) {
          saw()
          await held
        }
        return close.call(this)
      })
      log.bench.sql(`alter table sea add column w int default 7`)
      await seen
      log.bench.sql(`update sea set v = 'x' where id = 1`)
      const between = log.moment('public.sea')
      letGo()
      await log.flush()
      expect(await isHonest(log, between)).toBe(true)
      await looked(log, between)
      expect(await isHonest(log, between)).toBe(true)
    } finally {
      vi.restoreAllMocks()
      await log.close()
    }
  })

  it('does not show the structure of before where a change is in the log, and visible only once a standby has confirmed it', async () => {
    const log = await LogBench.open(
      `create table sea (id int primary key, v text); insert into sea select 2, ''; create table shore (id int primary key)`,
      {
        structure: 'compare',
      },
    )
    const server = (text: string) => log.bench.server.psql('postgres', text)
    // The server is shared: nobody but the client of this test waits for the standby that never comes.
    server(`alter system set synchronous_commit = local`)
    server(`alter system set synchronous_standby_names = 'nobody'`)
    server('select pg_reload_conf()')
    const client = new pg.Client(log.bench.server.url(log.bench.database))
    await client.connect()
    try {
      await log.bench.backup(log.vessel)
      log.follow(60_000)
      await log.flush()
      await client.query('set synchronous_commit = on')
      const altered = client.query('alter table sea add column w int default 7')
      const waits = `select count(*) from pg_stat_activity where wait_event = 'SyncRep'`
      await vi.waitFor(() => expect(log.bench.sql(waits)).toBe('1'), { timeout: 10_000 })
      log.bench.sql('insert into shore values (1)')
      const hidden = log.moment('public.shore')
      // Only what brings rows comes into the store: up to where nothing else happened is not known.
      const { engine } = log.bench
      for (const id of [2, 3, 4]) {
        const here = log.position()
        log.bench.sql(`insert into shore values (${id})`)
        await waitForLog(engine, log.vessel.id, log.member, here, new AbortController().signal)
      }
      expect(await isHonest(log, hidden)).toBe(true)
      server('alter system reset synchronous_standby_names')
      server('select pg_reload_conf()')
      await altered
      await looked(log, hidden)
      expect(await isHonest(log, hidden)).toBe(true)
    } finally {
      for (const name of ['synchronous_standby_names', 'synchronous_commit']) server(`alter system reset ${name}`)
      server('select pg_reload_conf()')
      await client.end()
      await log.close()
    }
  })
})
