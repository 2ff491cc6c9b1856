import { randomUUID } from 'node:crypto'
import { sql } from 'kysely'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { migrate, openCatalog } from '../../engine/catalog/connect'
import { testServer } from '../support/engine'

// What an earlier version wrote into the catalog is read by this one.

const NAME = 'older_catalog'
let catalog: ReturnType<typeof openCatalog>
beforeAll(() => {
  testServer().psql('postgres', `create database ${NAME}`)
  catalog = openCatalog(testServer().url(NAME))
})
afterAll(() => catalog?.db.destroy())

/** Path, verb, outcome, reason and whether it was equal, as they were written before. */
const RECEIPT = [
  ['ferry-db/bookings/sales/port', 'leave', 'left', 'It is there, and the same.', true],
  ['ferry-db/bookings/structure as a whole', 'compare', 'left', 'All 12 statements are the same.', true],
  ['ferry-db/bookings/sales/fare', 'compare', 'left', 'Rows of it name something.', false],
  ['ferry-db/bookings/structure as a whole', 'compare', 'left', 'It was not compared as a whole: PostgreSQL 14.', true],
  ['ferry-db/bookings/audit of the log', 'compare', 'left', 'It was not audited since.', true],
  ['ferry-db/bookings/sequences', 'compare', 'left', '1 sequence may be ahead.', true],
] as const

describe('a catalog from before quiescing had its name', () => {
  const [vessel, plain, run, backup] = [randomUUID(), randomUUID(), randomUUID(), randomUUID()]
  const sequence = { steps: [{ id: 'one', name: 'freeze', member: 'pier/boarding', turn: 0 }], budgetMs: 7000 }
  const promises = { couldLose: null, backWithin: null }

  beforeAll(async () => {
    const { db } = catalog
    await migrate(db, '017-counted-losses')
    for (const [id, definition] of [
      [vessel, { rules: [], store: 'north', promises, readers: 2, still: sequence }],
      [plain, { rules: [], store: 'north', promises, readers: 2 }],
    ] as const) {
      await sql`insert into vessel (id, slug, name, version, created_at) values (${id}, ${id}, ${id}, 1, now())`.execute(db)
      await sql`insert into vessel_version values (${id}, 1, ${JSON.stringify(definition)}, now())`.execute(db)
    }
    for (const [id, kind, params] of [
      [run, 'still', { still: sequence }],
      [backup, 'backup', { note: 'it stood still' }],
    ] as const)
      await sql`insert into run (id, kind, vessel_id, vessel_version, state, started_by, params, at, created_at, counters)
        values (${id}, ${kind}, ${vessel}, 1, 'done', 'somebody', ${JSON.stringify(params)}, now(), now(), '{}')`.execute(db)
    await sql`insert into source (id, name, kind, settings, created_at) values (${vessel}, 'ferry-db', 'postgres', '{}', now())`.execute(db)
    await sql`insert into follower (vessel_id, member, source_id, database, state, slot, publication, structure, since,
        position, still_position, still_at)
      values (${vessel}, 'ferry-db/bookings', ${vessel}, 'bookings', 'following', 'slot', 'publication', 'compare', now(),
        '0/10', '0/20', '2026-11-28T04:00:00Z')`.execute(db)
    for (const [i, [path, verb, outcome, reason, equal]] of RECEIPT.entries())
      await sql`insert into receipt (run_id, ordinal, path, target, verb, outcome, reason, equal, left_parts)
        values (${backup}, ${i}, ${path}, 'db', ${verb}, ${outcome}, ${reason}, ${equal}, '[]')`.execute(db)
    await migrate(db)
  })

  it('says how its vessels are quiesced, and has no such thing where nothing was said', async () => {
    const rows = await catalog.db.selectFrom('vessel_version').select(['vessel_id', 'definition']).execute()
    const of = (id: string) => rows.find(({ vessel_id }) => vessel_id === id)!.definition
    expect(of(vessel)).toEqual({ rules: [], store: 'north', promises, readers: 2, quiesce: sequence })
    expect(of(plain)).toEqual({ rules: [], store: 'north', promises, readers: 2 })
  })

  it('has its rehearsed holds as such, and every other run as it was', async () => {
    const rows = await catalog.db.selectFrom('run').select(['id', 'kind', 'params']).execute()
    expect(rows).toHaveLength(2)
    expect(rows).toContainEqual({ id: run, kind: 'hold', params: { quiesce: sequence } })
    expect(rows).toContainEqual({ id: backup, kind: 'backup', params: { note: 'it stood still' } })
  })

  it('tells what a restore compared, and what it only remarked, apart from what it left', async () => {
    const rows = await catalog.db.selectFrom('receipt').select(['outcome', 'equal']).orderBy('ordinal').execute()
    expect(rows.map(({ outcome, equal }) => [outcome, equal])).toEqual([
      ['left', true],
      ['compared', true],
      ['compared', false],
      ['noted', null],
      ['noted', null],
      ['noted', null],
    ])
  })

  it('knows up to where a log was read', async () => {
    const row = await catalog.db.selectFrom('follower').select(['caught_up_position', 'caught_up_at']).executeTakeFirstOrThrow()
    expect(row).toEqual({ caught_up_position: '0/20', caught_up_at: new Date('2026-11-28T04:00:00Z') })
  })

  it('is brought to the newest version once more without a change', async () => {
    await migrate(catalog.db)
    expect(await catalog.db.selectFrom('run').select('kind').where('id', '=', run).execute()).toEqual([{ kind: 'hold' }])
  })
})
