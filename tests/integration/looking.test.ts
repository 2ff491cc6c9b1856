import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { thingsUnder } from '../../engine/catalog/thing-views'
import { discoverSource } from '../../engine/catalog/sources'
import { requestCancel, addRun } from '../../engine/catalog/runs'
import { saveDefinition, type Vessel } from '../../engine/catalog/vessels'
import { compareTable } from '../../engine/compare/table'
import { pointContents } from '../../engine/compare/contents'
import { perform } from '../../engine/runs/runner'
import { unprotected } from '../../engine/watch/attention'
import { openLosses } from '../../engine/watch/losses'
import { Workbench } from '../support/engine'

// Looking at sources, at vessels, and into points.

let bench: Workbench
let vessel: Vessel
let point: string

beforeAll(async () => {
  bench = await Workbench.open(`
    create schema sales; create schema spare;
    create table sales.leg (leg_id int primary key, berth text, note text);
    insert into sales.leg select g, 'A-' || g % 90, md5(g::text) from generate_series(1, 60000) g;
    create table sales.pair (a int, b text, primary key (a, b)); insert into sales.pair values (1, 'x'), (1, 'y'), (10, 'x'), (9, 'x');
    create table sales.keyless (v text); insert into sales.keyless values ('twice'), ('twice'), ('once');
    create table spare.unused (id int);`)
  vessel = await bench.vessel('Sales', [bench.path('sales')])
  await discover()
  point = await bench.backup(vessel)
})
afterAll(() => bench?.close())

async function discover() {
  const { id } = await bench.engine.db.selectFrom('source').select('id').where('name', '=', 'db').executeTakeFirstOrThrow()
  await discoverSource(bench.engine, id)
}
const compare = (table: string, limit = 100) => compareTable(bench.engine, point, bench.path('sales', table), limit)

describe('then and now', () => {
  it('finds nothing in a table that is the same, and shows some of it', async () => {
    const result = await compare('leg')
    expect(result.rows).toMatchObject({ same: 60_000, gone: 0, changed: 0, fresh: 0 })
    expect(result.sample[0]).toEqual(['1', 'A-1', 'c4ca4238a0b923820dcc509a6f75849b'])
    expect(result.structure.every((line) => line.mark === 'same')).toBe(true)
  })

  it('counts every difference by key, and lists the first of them', async () => {
    bench.sql(
      `begin; delete from sales.leg where leg_id % 1000 = 0; update sales.leg set berth = 'deck' where leg_id in (5, 7); insert into sales.leg values (70001, null, 'new')`.concat(
        '; commit',
      ),
    )
    const result = await compare('leg', 4)
    expect(result.rows).toMatchObject({ same: 59_938, gone: 60, changed: 2, fresh: 1 })
    expect(result.rows!.rows.map(({ mark, key }) => [mark, key])).toEqual([
      ['changed', '5'],
      ['changed', '7'],
      ['gone', '1000'],
      ['gone', '2000'],
    ])
    expect(result.rows!.rows[0]!.now![1]).toBe('deck')
    expect(result.now).toEqual({ rows: 59_941 })
  })

  it('compares by keys of several columns, and row for row where there is no key', async () => {
    bench.sql(
      `delete from sales.pair where a = 10; insert into sales.pair values (2, 'z'); delete from sales.keyless where ctid = (select min(ctid) from sales.keyless)`,
    )
    expect((await compare('pair')).rows!.rows.map(({ mark, key }) => [mark, key])).toEqual([
      ['new', '2, z'],
      ['gone', '10, x'],
    ])
    expect((await compare('keyless')).rows).toMatchObject({ same: 2, gone: 1, changed: 0, fresh: 0 })
  })

  it('compares the columns that are in both when the structure changed', async () => {
    bench.sql('alter table sales.pair add column c int default 3; alter table sales.leg drop column note')
    const pair = await compare('pair')
    expect(pair.structure.filter((line) => line.mark !== 'same')).toMatchObject([{ name: 'c', mark: 'new' }])
    expect(pair.rows).toMatchObject({ same: 3, gone: 1, fresh: 1 })
    const leg = await compare('leg')
    expect(leg.columns).toEqual(['leg_id', 'berth'])
    expect(leg.rows).toMatchObject({ gone: 60, changed: 2, fresh: 1 })
  })

  it('shows a table that is gone as it was, and says so in the tree', async () => {
    bench.sql('drop table sales.leg')
    const result = await compare('leg', 3)
    expect(result.now).toBeNull()
    expect(result.rows!.gone).toBe(60_000)
    expect(result.rows!.rows.map(({ key }) => key)).toEqual(['1', '2', '3'])
    const { things } = await pointContents(bench.engine, point)
    expect(things.find(({ name }) => name === 'leg')).toMatchObject({ kind: 'table', rows: 60_000, there: false })
    expect(things.find(({ name }) => name === 'pair')).toMatchObject({ there: true })
  })

  it('of something that is not in the point is refused', async () => {
    await expect(compare('never_was')).rejects.toMatchObject({ code: 'not_in_point', status: 404 })
  })
})

describe('the things of sources', () => {
  it('tells what is protected, what is not, and what is gone', async () => {
    await discover()
    const schemas = await thingsUnder(bench.engine, bench.path())
    expect(schemas.find(({ name }) => name === 'sales')).toMatchObject({ cover: 'all', claims: [{ vessel: 'Sales' }] })
    expect(schemas.find(({ name }) => name === 'spare')).toMatchObject({ cover: 'none', tables: 1 })
    const sales = await thingsUnder(bench.engine, bench.path('sales'))
    expect(sales.find(({ name }) => name === 'leg')!.goneAt).toBeInstanceOf(Date)
    expect((await unprotected(bench.engine)).map(({ path }) => path)).toContain(bench.path('spare'))
  })

  it('offers to restore what is gone, from a point that holds it', async () => {
    await bench.run('backup', vessel)
    const loss = (await openLosses(bench.engine)).find(({ what }) => what.startsWith('sales.leg is gone'))!
    expect(loss.ways[0]!.to).toContain(`point=${point}`)
    expect(loss.ways[0]!.to).toContain(encodeURIComponent(bench.path('sales', 'leg')))
  })
})

describe('a run that is cancelled before a worker takes it', () => {
  it('ends at once, and cannot be cancelled twice', async () => {
    const id = await addRun(bench.engine, { kind: 'backup', vessel, startedBy: 'a test' })
    await requestCancel(bench.engine, id)
    await perform(bench.engine, id)
    expect(await bench.record(id)).toMatchObject({ state: 'cancelled', outcome: null })
    await expect(requestCancel(bench.engine, id)).rejects.toMatchObject({ code: 'run_over', status: 409 })
  })
})

describe('a definition that somebody else saved meanwhile', () => {
  it('is not overwritten', async () => {
    const definition = { ...vessel.definition, readers: 3 }
    expect(await saveDefinition(bench.engine, vessel.slug, 1, definition)).toBe(2)
    await expect(saveDefinition(bench.engine, vessel.slug, 1, definition)).rejects.toMatchObject({
      code: 'definition_changed',
      status: 409,
    })
  })
})
