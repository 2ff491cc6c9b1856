import pg from 'pg'
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'
import { accessOf } from '../../engine/catalog/sources'
import { DatabaseCapture, withoutRows } from '../../engine/sources/postgres/capture'
import { readDatabase } from '../../engine/log/structure'
import { noRows, openPoint } from '../../engine/points/open'
import { LogBench } from '../support/log'
import { Workbench } from '../support/engine'

// The server writes definitions as they are when it is asked, whatever snapshot the catalogs are read through. What
// somebody changes between the two is in the reading as it was soon after, and that is told.

let bench: Workbench
beforeAll(async () => {
  bench = await Workbench.open(
    `create table item (id int primary key, v text); create view named as select v from item; create view still as select 1 as one;
     create function touch() returns trigger language plpgsql as $$ begin return new; end $$;
     create trigger touched before update on item for each row execute function touch();
     create trigger going before update on item for each row execute function touch()`,
  )
})
afterAll(() => bench.close())

describe('a structure that is changed between its snapshot and its reading', () => {
  it('says which of its definitions may be those of soon after', async () => {
    const access = await accessOf(bench.engine, 'db')
    const capture = await DatabaseCapture.open(access, bench.database, new AbortController().signal)
    try {
      bench.sql(`alter table item rename column v to w; create view later as select 1 as x`)
      const entries = await capture.structure()
      expect(entries.find(({ name }) => name === 'named')!.sql).toContain('item.w')
      const { missing, moved } = await capture.finish(entries, [], null)
      const oidOf = (type: string, name: string) => entries.find((entry) => entry.type === type && entry.name === name)!.oid
      expect(moved).toContain(`1259/${oidOf('TABLE', 'item')}`)
      expect(moved).not.toContain(`1259/${oidOf('VIEW', 'still')}`)
      expect(missing.map(({ path, note }) => [path, note])).toEqual(['item', 'named'].map((name) => [bench.path('public', name), true]))
      expect(missing[0]!.reason).toContain('soon after')
    } finally {
      await capture.close()
    }
  })

  it('names the parts that were dropped before their definition was read', async () => {
    const access = await accessOf(bench.engine, 'db')
    const capture = await DatabaseCapture.prepare(access, bench.database, new AbortController().signal)
    try {
      await capture.take(null)
      bench.sql('drop trigger going on item')
      await capture.look()
      const [item] = capture.tables.map((table) => withoutRows(table, capture.pathOf(table)))
      expect(item!.structure.triggers.map(({ name }) => name)).toEqual(['touched'])
      expect(capture.missing.map(({ path, note }) => [path, note])).toEqual([[bench.path('public', 'item'), true]])
      expect(capture.missing[0]!.reason).toContain('going')
    } finally {
      await capture.close()
    }
  })

  it('is read again where nothing but the structure is read', async () => {
    const access = await accessOf(bench.engine, 'db')
    const { rules } = (await bench.vessel('Moved')).definition
    let changing = true
    const changes = (async () => {
      while (changing)
        await bench.server.load(
          bench.database,
          'create trigger going before update on item for each row execute function touch(); drop trigger going on item',
        )
    })()
    try {
      for (let i = 0; i < 5; i++) {
        const { tables } = await readDatabase(access, bench.database, rules, new AbortController().signal)
        expect(tables.map(({ name }) => name)).toEqual(['item'])
        expect(tables[0]!.structure.triggers.filter(({ definition }) => definition === null)).toEqual([])
      }
    } finally {
      changing = false
      await changes
    }
  })
})

describe('a follower that is begun again', () => {
  it('knows which changes its next reading saw, though they are in the store already', async () => {
    const log = await LogBench.open('create table item (id int primary key); create table other (id int primary key)')
    try {
      await log.bench.backup(log.vessel)
      log.follow(60_000)
      await log.flush()
      // While somebody holds a table, nobody reads the structure.
      const holder = new pg.Client({ connectionString: log.bench.server.url(log.bench.database) })
      await holder.connect()
      await holder.query('begin; lock table other in access exclusive mode')
      log.bench.sql('create view seen as select id from item')
      const moment = log.moment()
      await log.flush()
      await log.unfollow()
      await holder.end()
      log.follow(60_000)
      const at = async () => (await openPoint(log.bench.engine, log.ref(moment), noRows)).members[0]!.manifest.databases[0]!
      await vi.waitFor(async () => expect((await at()).others.map(({ path }) => path)).toContain(log.bench.path('public', 'seen')), {
        timeout: 20_000,
        interval: 200,
      })
      expect((await at()).missing).toEqual([])
    } finally {
      await log.close()
    }
  })
})
