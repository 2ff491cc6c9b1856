import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { Vessel } from '../../engine/catalog/vessels'
import { standings } from '../../engine/catalog/standing'
import { pointContents } from '../../engine/compare/contents'
import { Workbench } from '../support/engine'
import { EVERYTHING } from '../support/everything'

// What simple restores forget. The oracle is the server's own dump utility: what it writes of the original and
// of what was restored is the same, statement by statement and row by row.

let bench: Workbench
let vessel: Vessel
let point: string
let structure: string
let rows: string[]

beforeAll(async () => {
  bench = await Workbench.open(EVERYTHING)
  vessel = await bench.vessel('Everything')
  point = await bench.backup(vessel)
  structure = dump()
  rows = content()
})
afterAll(async () => {
  dropWhole()
  await bench?.close()
})

/** Structure with owners, rights, database properties and settings. */
function dump(database = bench.database): string {
  return bench.server.dump(database, ['--schema-only', '--create']).replaceAll(database, 'THE DATABASE')
}

/** Every row, sequence position and large object, in an order of its own. */
function content(database = bench.database): string[] {
  return bench.server
    .dump(database, ['--data-only', '--blobs', '--inserts', '--rows-per-insert=1'])
    .split(/;\n/)
    .filter((line) => /INSERT INTO|setval|lo_|lowrite/.test(line))
    .map((line) => line.trim())
    .sort()
}

/** A subscription keeps a database from being dropped, connected or not. */
function dropWhole(): void {
  if (bench.server.psql('postgres', `select 1 from pg_database where datname = '${bench.database}'`) === '') return
  bench.sql('alter subscription from_far disable; alter subscription from_far set (slot_name = none); drop subscription from_far')
  bench.server.psql('postgres', `drop database ${bench.database} with (force)`)
}

/** What a receipt must never say of a whole and undisturbed return. */
function unwell(receipts: { path: string; outcome: string; reason: string | null; equal: boolean | null; left_parts: unknown[] }[]) {
  return receipts
    .filter(
      ({ outcome, equal, left_parts: left }) =>
        outcome === 'failed' || (outcome === 'left' && !equal) || equal === false || left.length > 0,
    )
    .map(({ path, outcome, reason, left_parts: left }) => [path, outcome, reason, ...left])
}

describe('the point', () => {
  it('says what it cannot hold, and is complete all the same', async () => {
    const held = await bench.engine.db.selectFrom('point').selectAll().where('id', '=', point).executeTakeFirstOrThrow()
    expect(held.missing.map(({ reason }) => reason)).toEqual(['Its rows are on another server; only its structure is kept.'])
    expect(held.complete).toBe(true)
    const [standing] = await standings(bench.engine)
    expect(standing).toMatchObject({ state: 'whole' })
    const { things } = await pointContents(bench.engine, point)
    expect(things.filter(({ there }) => there === false)).toEqual([])
    expect(things.at(-1)).toMatchObject({ kind: 'large-objects', rows: 3 })
  })
})

describe('a database with everything in it', () => {
  it('comes back whole after it was dropped', async () => {
    dropWhole()
    const { run, receipts } = await bench.restore(vessel, point, {})
    expect(run.error).toBeNull()
    expect(unwell(receipts)).toEqual([])
    expect(dump()).toBe(structure)
    expect(content()).toEqual(rows)
    expect(run.state).toBe('done')
  })
  it('comes back under another name, beside the one that is there', async () => {
    const database = `${bench.database}_twin`
    const { run, receipts } = await bench.restore(vessel, point, { into: { mode: 'elsewhere', source: 'db', database } })
    expect(run.error).toBeNull()
    expect(unwell(receipts)).toEqual([])
    expect(dump(database)).toBe(structure)
    expect(content(database)).toEqual(rows)
    bench.server.psql(database, 'alter subscription from_far set (slot_name = none); drop subscription from_far')
    bench.server.psql('postgres', `drop database ${database} with (force)`)
  })

  it('is whole again after half of it was dropped and the rest was damaged', async () => {
    bench.sql(`set client_min_messages = error; drop schema yard cascade; drop publication everything; drop schema "Übersee ""x""" cascade;
      delete from ledger.entry where entry_id > 5; select lo_unlink(4711); select lo_put(4713, 0, 'xyz');
      alter default privileges in schema ledger revoke usage on sequences from deck_hand; drop procedure ledger.close_year`)
    const { run, receipts } = await bench.restore(vessel, point, {})
    expect(run.error).toBeNull()
    expect(unwell(receipts)).toEqual([])
    expect(dump()).toBe(structure)
    expect(content()).toEqual(rows)
  })

  it('has every table made anew when all of them have changed, and what stands upon them survives', async () => {
    bench.sql(`set client_min_messages = error; do $$ declare r record; begin
      for r in select c.oid::regclass as name from pg_class c join pg_namespace n on n.oid = c.relnamespace
        where c.relkind in ('r', 'p') and not c.relispartition and n.nspname in ('yard', 'ledger', 'Übersee "x"')
          and not exists (select from pg_inherits i where i.inhrelid = c.oid) loop
        execute format('alter table %s add column uv_added int', r.name);
      end loop; end $$`)
    const { run, receipts } = await bench.restore(vessel, point, {})
    expect(run.error).toBeNull()
    expect(unwell(receipts)).toEqual([])
    expect(receipts.filter(({ outcome }) => outcome === 'replaced').length).toBeGreaterThan(20)
    expect(content()).toEqual(rows)
    expect(dump()).toBe(structure)
  })

  it('is gone without a trace when it was being made elsewhere and the restore was cancelled', async () => {
    const database = `${bench.database}_never`
    const { run, receipts } = await bench.restoreCancelled(
      vessel,
      point,
      { into: { mode: 'elsewhere', source: 'db', database } },
      'yard.heavy',
    )
    expect(run.state).toBe('cancelled')
    expect(receipts.some(({ outcome }) => outcome === 'made')).toBe(true)
    expect(bench.server.psql('postgres', `select count(*) from pg_database where datname = '${database}'`)).toBe('0')
  })
})
