import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'
import { accessOf } from '../../engine/catalog/sources'
import { withClient } from '../../engine/sources/postgres/connect'
import { alignPublication, identities } from '../../engine/sources/postgres/log/install'
import { LogBench } from '../support/log'

// What a publication holds is what the log tells of. Nothing leaves it without a word, whoever takes it out.

let log: LogBench
let publication: string
beforeAll(async () => {
  log = await LogBench.open(
    `create table item (id int primary key, v text); insert into item select g, 'v' || g from generate_series(1, 20) g`,
  )
  await log.bench.backup(log.vessel)
  log.follow(60_000)
  await log.flush()
  publication = (await log.row()).publication
})
afterAll(() => log.close())

const published = () =>
  log.bench.sql(`select string_agg(tablename, ',' order by tablename) from pg_publication_tables where pubname = '${publication}'`)

describe('a publication', () => {
  it('keeps a table that was made, and published, since it was looked at', async () => {
    const access = await accessOf(log.bench.engine, 'db')
    await withClient(access, log.bench.database, async (client) => {
      const seen = await identities(client)
      log.bench.sql(`create table made_since (id int primary key); insert into made_since values (1)`)
      expect(published()).toBe('item,made_since')
      await alignPublication(client, publication, { seen, wanted: seen })
    })
    expect(published()).toBe('item,made_since')
    log.bench.sql('insert into made_since values (2)')
    const moment = log.moment('public.made_since')
    await log.flush()
    await log.holds(moment)
  }, 150_000)

  it('keeps a table that got its key since it was looked at', async () => {
    const access = await accessOf(log.bench.engine, 'db')
    log.bench.sql('create table keyless (id int not null)')
    await withClient(access, log.bench.database, async (client) => {
      const seen = await identities(client)
      const wanted = seen.filter(({ trouble }) => trouble === null)
      expect(wanted.map(({ name }) => name)).not.toContain('keyless')
      log.bench.sql('alter table keyless add primary key (id)')
      expect(published()).toContain('keyless')
      await alignPublication(client, publication, { seen, wanted })
    })
    expect(published()).toContain('keyless')
  }, 150_000)

  it('from which somebody takes a table leaves its rows unknown, until it is read whole', async () => {
    const before = log.moment('public.item')
    log.bench.sql(`alter publication ${publication} drop table item; update item set v = 'unseen' where id = 1`)
    const after = log.moment('public.item')
    await log.flush()
    await log.holds(before)
    await expect(log.rowsAt(log.ref(after), 'public.item')).rejects.toThrow('not known')
    const item = async () => Object.values((await log.row()).tables).find(({ name }) => name === 'item')!
    // It is published again by itself; from then on its rows can be known again.
    await vi.waitFor(async () => expect((await item()).since).not.toBeNull(), { timeout: 30_000, interval: 100 })
    expect(published()).toContain('item')
    await log.bench.backup(log.vessel, 'differential')
    log.bench.sql(`update item set v = 'seen' where id = 2`)
    const mended = log.moment('public.item')
    await log.flush()
    await log.holds(mended)
  }, 90_000)
})
