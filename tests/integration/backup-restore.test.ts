import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { Vessel } from '../../engine/catalog/vessels'
import { Workbench } from '../support/engine'
import { SHIPS } from '../support/ships'

let bench: Workbench
let vessel: Vessel
let point: string

beforeAll(async () => {
  bench = await Workbench.open(SHIPS)
  vessel = await bench.vessel()
  point = await bench.backup(vessel)
})
afterAll(() => bench?.close())

const legs = () => bench.sql('select count(*), sum(hashtext(l::text)::bigint) from sales.leg l')

describe('a dropped table', () => {
  it('comes back into its place with everything that belongs to it, and is proven equal', async () => {
    const [before, structure] = [legs(), dump()]
    bench.sql('drop table sales.leg cascade')
    const { run, receipts } = await bench.restore(vessel, point, { picks: [bench.path('sales', 'leg')] })
    expect(run.error).toBeNull()
    expect(run.state).toBe('done')
    expect(run.counters).toMatchObject({ rows: 3000, 'rows expected': 3000, 'rows checked': 3000, 'rows checked expected': 3000 })
    expect(legs()).toBe(before)
    expect(dump()).toBe(structure)
    const table = receipts.find((receipt) => receipt.path.endsWith('/leg'))!
    expect(table).toMatchObject({ outcome: 'made', equal: true })
    expect(table.fingerprint_now).toBe(table.fingerprint_then)
    expect(bench.sql('select count(*) from sales.leg_with_ship')).toBe('3000')
    bench.sql('insert into sales.leg (booking_id, fare) values (1, 5)')
    expect(bench.sql('select max(leg_id) from sales.leg')).toBe('3001')
    bench.sql('delete from sales.leg where leg_id = 3001')
  })
})

describe('a table with changed rows', () => {
  it('is replaced in one transaction, and what it held is kept as a point of its own', async () => {
    const [before, structure] = [legs(), dump()]
    bench.sql('delete from sales.leg where leg_id % 2 = 0 and leg_id > 600; update sales.leg set fare = 0 where leg_id < 100')
    const damaged = legs()
    const { run, receipts } = await bench.restore(vessel, point, { picks: [bench.path('sales', 'leg')] })
    expect(run.state).toBe('done')
    expect(receipts.map((receipt) => receipt.outcome)).toEqual(['replaced'])
    expect(legs()).toBe(before)
    expect(dump()).toBe(structure)
    const kept = await bench.engine.db.selectFrom('point').selectAll().where('kept_for', '=', run.id).executeTakeFirstOrThrow()
    await bench.restore(vessel, kept.id, { picks: [bench.path('sales', 'leg')] })
    expect(legs()).toBe(damaged)
    await bench.restore(vessel, point, { picks: [bench.path('sales', 'leg')] })
    expect(legs()).toBe(before)
  })

  it('stays as it is when the wish is to skip, and comes beside when it is to rename', async () => {
    const before = legs()
    const skipped = await bench.restore(vessel, point, { picks: [bench.path('sales', 'leg')], collide: 'skip' })
    expect(skipped.receipts.map((receipt) => receipt.outcome)).toEqual(['left'])
    expect(skipped.run.state).toBe('warned')
    const renamed = await bench.restore(vessel, point, { picks: [bench.path('sales', 'leg')], collide: 'rename' })
    expect(renamed.receipts[0]).toMatchObject({ outcome: 'renamed', equal: true })
    expect(legs()).toBe(before)
    expect(bench.sql(`select count(*) from ${renamed.receipts[0]!.target}`)).toBe('3000')
    bench.sql(`drop table ${renamed.receipts[0]!.target}`)
  })
})

describe('beside the original', () => {
  it('makes an independent copy with its own sequence, indexes and keys in another schema', async () => {
    bench.sql('create schema pier')
    const { run, receipts } = await bench.restore(vessel, point, {
      picks: [bench.path('sales', 'leg')],
      into: { mode: 'beside', schema: 'pier', prefix: '', suffix: '', names: {} },
    })
    expect(run.error).toBeNull()
    expect(receipts[0]).toMatchObject({ outcome: 'renamed', equal: true, target: '"pier"."leg"' })
    bench.sql('insert into pier.leg (booking_id, fare) values (1, 5)')
    expect(bench.sql('select max(leg_id) from pier.leg')).toBe('3001')
    expect(bench.sql(`select pg_get_serial_sequence('pier.leg', 'leg_id')`)).toBe('pier.leg_leg_id_seq')
    expect(bench.sql('select max(leg_id) from sales.leg')).toBe('3000')
    bench.sql('drop schema pier cascade')
  })
})

describe('the whole database', () => {
  it('comes back after it was dropped, equal to the server’s own dump of it', async () => {
    const [structure, rows] = [dump(), allRows()]
    bench.server.psql('postgres', `drop database ${bench.database} with (force)`)
    const { run, receipts } = await bench.restore(vessel, point, {})
    expect(run.error).toBeNull()
    expect(receipts.filter((receipt) => receipt.outcome === 'failed')).toEqual([])
    expect(allRows()).toBe(rows)
    expect(dump()).toBe(structure)
  })
})

describe('a schema', () => {
  it('comes back as a whole: types, functions, views, sequences, partitions, and rights', async () => {
    const [structure, rows] = [dump(), allRows()]
    bench.sql('drop schema sales cascade')
    const { run, receipts } = await bench.restore(vessel, point, { picks: [bench.path('sales')] })
    expect(run.error).toBeNull()
    expect(receipts.filter((receipt) => receipt.outcome === 'failed' || receipt.equal === false)).toEqual([])
    expect(run.state).toBe('done')
    expect(allRows()).toBe(rows)
    expect(dump()).toBe(structure)
  })
})

describe('a partitioned table', () => {
  it('comes back with its partitions attached and their rows in them', async () => {
    const [structure, rows] = [dump(), allRows()]
    bench.sql('drop table sales.payment')
    const { run } = await bench.restore(vessel, point, { picks: [bench.path('sales', 'payment')] })
    expect(run.state).toBe('done')
    expect(allRows()).toBe(rows)
    expect(dump()).toBe(structure)
  })
})

describe('tables bound by foreign keys', () => {
  it('are replaced together, and what refers to them from outside is kept', async () => {
    const [structure, rows] = [dump(), allRows()]
    bench.sql('delete from sales.refund; delete from sales.leg; delete from sales.booking where booking_id > 10')
    const picks = ['booking', 'leg'].map((name) => bench.path('sales', name))
    const { run, receipts } = await bench.restore(vessel, point, { picks })
    expect(run.state).toBe('done')
    expect(receipts.map((receipt) => receipt.outcome)).toEqual(['replaced', 'replaced'])
    expect(bench.sql('select count(*) from sales.refund')).toBe('0')
    expect((await bench.restore(vessel, point, { picks: [bench.path('sales', 'refund')] })).run.state).toBe('done')
    expect(allRows()).toBe(rows)
    expect(dump()).toBe(structure)
  })

  it('whose counterpart is missing come back, and the receipt says which key is not validated', async () => {
    bench.sql('delete from sales.refund; delete from sales.leg where leg_id = 3')
    const { run, receipts } = await bench.restore(vessel, point, { picks: [bench.path('sales', 'refund')] })
    expect(run.state).toBe('warned')
    expect(bench.sql('select count(*) from sales.refund')).toBe('200')
    expect(receipts[0]!.equal).toBe(false)
    expect(receipts[0]!.left_parts[0]!.what).toMatch(/refund_leg_id_fkey.*not validated/)
    await bench.restore(vessel, point, { picks: ['leg', 'refund'].map((name) => bench.path('sales', name)) })
  })
})

describe('a rehearsal', () => {
  it('reads everything, writes nothing, and says what would happen', async () => {
    bench.sql('delete from sales.leg where leg_id = 7')
    const { run, receipts } = await bench.restore(vessel, point, { picks: [bench.path('sales')] }, 'rehearsal')
    expect(run.state).toBe('done')
    expect(bench.sql('select count(*) from sales.leg')).toBe('2999')
    const leg = receipts.find((receipt) => receipt.path.endsWith('/leg'))!
    expect(leg).toMatchObject({ outcome: 'replaced', rows: 3000 })
    expect(leg.fingerprint_then).toMatch(/^[0-9a-f]{32}$/)
  })
})

describe('the second full of unchanged data', () => {
  it('stores next to nothing', async () => {
    const fresh = await bench.vessel('Again')
    const first = await bench.run('backup', fresh)
    const second = await bench.run('backup', fresh)
    expect(second.state).toBe('done')
    expect(first.counters.bytes).toBe(second.counters.bytes)
    expect(second.counters.stored).toBe(0)
  })
})

function dump(): string {
  return bench.server.dump(bench.database)
}

function allRows(): string {
  const tables = bench.sql(
    `select format('%I.%I', schemaname, tablename) from pg_tables where schemaname in ('sales', 'Odd "schema"') order by 1`,
  )
  return tables
    .split('\n')
    .map((table) => `${table} ${bench.sql(`select count(*), sum(hashtext(t::text)::bigint) from ${table} t`)}`)
    .join('\n')
}
