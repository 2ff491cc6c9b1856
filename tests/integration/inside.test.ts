import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { Vessel } from '../../engine/catalog/vessels'
import { comparePoints } from '../../engine/compare/table'
import { ddlAt } from '../../engine/look/ddl'
import { rowHistory } from '../../engine/look/row-history'
import { rowPage, wholeRow, type RowQuery } from '../../engine/look/rows'
import { exportSchema, exportTable, type Export } from '../../engine/look/export'
import { openPoint } from '../../engine/points/open'
import { Workbench } from '../support/engine'

// Looking into points: pages of rows, values, filters, rows across time, two points beside each other, and taking out.

let bench: Workbench
let vessel: Vessel
let points: string[]
const ROWS = 120_000

beforeAll(async () => {
  bench = await Workbench.open(`
    create schema sales;
    create table sales.leg (leg_id bigint primary key, berth text, fare numeric(8, 2), at timestamptz, note text);
    insert into sales.leg select g, 'A-' || g % 90, g % 300, timestamptz '2026-11-01' + g * interval '1 second', md5(g::text) from generate_series(1, ${ROWS}) g;
    create table sales.stop (code text primary key, big text, raw bytea); insert into sales.stop
      select 'S' || g, case g when 3 then repeat('long ', 2000) end, case g when 3 then '\\x00ff'::bytea end from generate_series(1, 50) g;
    create table sales.paid (id int, at date, note text, primary key (id, at)) partition by range (at);
    create table sales.paid_old partition of sales.paid for values from (minvalue) to ('2026-01-01');
    create table sales.paid_new (note text, at date not null, id int not null); alter table sales.paid attach partition sales.paid_new default;
    insert into sales.paid select g, date '2025-12-01' + g, 'n' || g from generate_series(1, 60) g;
    create sequence sales.ticket; select setval('sales.ticket', 4711);
    create table sales.log (line text); insert into sales.log values ('once');
    create index leg_by_berth on sales.leg (berth); comment on table sales.leg is 'One crossing';
    create view sales.cheap as select * from sales.leg where fare < 10;`)
  vessel = await bench.vessel('Sales', [bench.path('sales')])
  points = [await bench.backup(vessel)]
  // Rows that are updated move to the end of their table, so its last chunks hold keys from all over.
  bench.sql(
    `update sales.leg set fare = 7 where leg_id between 50000 and 50999; update sales.leg set berth = 'moved' where leg_id = 77; analyze`,
  )
  points.push(await bench.backup(vessel))
  bench.sql('delete from sales.leg where leg_id = 77; alter table sales.leg add column flag int')
  points.push(await bench.backup(vessel))
})
afterAll(() => bench?.close())

const leg = () => bench.path('sales', 'leg')
const page = (query: Partial<RowQuery>, point = points[1]!) =>
  rowPage(bench.engine, point, { path: leg(), order: 'stored', offset: 0, limit: 50, filter: [], after: null, ...query })
const ids = async (query: Partial<RowQuery>, point?: string) => (await page(query, point)).rows.map(({ fields }) => Number(fields[0]))
const range = (from: number, count: number, step = 1) => Array.from({ length: count }, (_, i) => from + i * step)

describe('pages of rows', () => {
  it('come in the order in which they are stored, from anywhere', async () => {
    expect(await ids({}, points[0])).toEqual(range(1, 50))
    expect(await ids({ offset: 100_000, limit: 5 }, points[0])).toEqual(range(100_001, 5))
    expect(await ids({ offset: ROWS - 2 }, points[0])).toEqual([ROWS - 1, ROWS])
    expect(await ids({ offset: ROWS + 10 }, points[0])).toEqual([])
  })

  it('come by key too, though rows were moved about in the table', async () => {
    for (const offset of [0, 76, 49_980, 50_500, 119_990])
      expect(await ids({ order: 'key', offset, limit: 10 })).toEqual(range(offset + 1, 10))
    expect(await ids({ order: 'key-descending', offset: 0, limit: 3 })).toEqual(range(ROWS, 3, -1))
    expect(await ids({ order: 'key-descending', offset: 69_999, limit: 3 })).toEqual([50_001, 50_000, 49_999])
  })

  it('come by keys of other types too, and are refused where there is no key', async () => {
    const codes = async (query: Partial<RowQuery>) =>
      (await page({ path: bench.path('sales', 'stop'), ...query })).rows.map(({ fields }) => fields[0])
    const sorted = Array.from({ length: 50 }, (_, i) => `S${i + 1}`).sort()
    expect(await codes({ order: 'key' })).toEqual(sorted)
    expect(await codes({ order: 'key', offset: 10, limit: 3 })).toEqual(sorted.slice(10, 13))
    expect(await codes({ order: 'key-descending', offset: 48 })).toEqual([sorted[1], sorted[0]])
    const log = bench.path('sales', 'log')
    expect(await page({ path: log })).toMatchObject({ sortable: false, total: 1, key: null })
    await expect(page({ path: log, order: 'key' })).rejects.toMatchObject({ code: 'no_order' })
  })

  it('are filtered by the type of the column, and go on where they ended', async () => {
    const cheap = { filter: [{ column: 'fare', op: '=' as const, value: '7' }], limit: 300 }
    let after: RowQuery['after'] = null
    const found = []
    do {
      const part = await page({ ...cheap, after })
      found.push(...part.rows)
      after = part.next
    } while (after)
    expect(found.length).toBe(Number(bench.sql('select count(*) from sales.leg where fare = 7')))
    expect(await ids({ filter: [{ column: 'leg_id', op: '=', value: '50123' }] })).toEqual([50_123])
    expect(
      await ids({
        filter: [
          { column: 'leg_id', op: '≥', value: '119999' },
          { column: 'fare', op: 'is not null', value: '' },
        ],
      }),
    ).toEqual([119_999, 120_000])
    await expect(page({ filter: [{ column: 'fare', op: '>', value: 'much' }] })).rejects.toMatchObject({
      code: 'filter_value',
      status: 400,
    })
    await expect(page({ filter: [{ column: 'nothing', op: '>', value: '1' }] })).rejects.toMatchObject({ code: 'filter_column' })
  })

  it('cut long values, which can be seen whole', async () => {
    const stop = bench.path('sales', 'stop')
    const { rows } = await page({ path: stop })
    const long = rows.find(({ fields }) => fields[0] === 'S3')!
    expect(long.fields[1]!.length).toBe(240)
    expect(long.cut).toEqual({ 1: 10_000 })
    const whole = await wholeRow(bench.engine, points[1]!, stop, long.at)
    expect(whole.fields).toEqual(['S3', 'long '.repeat(2000), '\\x00ff'])
    await expect(wholeRow(bench.engine, points[1]!, stop, { chunk: 0, row: 999 })).rejects.toMatchObject({ code: 'row_missing' })
  })
})

describe('structure', () => {
  it('is readable SQL, with all that belongs to a thing', async () => {
    const { sql } = await ddlAt(bench.engine, points[0]!, leg())
    for (const part of ['CREATE TABLE sales.leg', 'ADD CONSTRAINT leg_pkey PRIMARY KEY', 'CREATE INDEX leg_by_berth', 'COMMENT ON TABLE'])
      expect(sql).toContain(part)
    expect((await ddlAt(bench.engine, points[0]!, bench.path('sales', 'cheap'))).sql).toContain('CREATE VIEW sales.cheap')
    await expect(ddlAt(bench.engine, points[0]!, bench.path('sales', 'nothing'))).rejects.toMatchObject({ code: 'not_in_point' })
  })
})

describe('a row across time', () => {
  it('is told from point to point', async () => {
    const { points: seen } = await rowHistory(bench.engine, vessel.id, { path: leg(), column: 'leg_id', value: '77', before: null })
    expect(seen.map(({ id, fate, changed }) => [id, fate, ...changed])).toEqual([
      [points[2], 'gone'],
      [points[1], 'changed', 'berth'],
      [points[0], 'first'],
    ])
    expect(seen[1]!.rows[0]!.slice(0, 2)).toEqual(['77', 'moved'])
  })

  it('is found by a value of any column, and by a column that older points lack', async () => {
    const by = (column: string, value: string) => rowHistory(bench.engine, vessel.id, { path: leg(), column, value, before: null })
    expect((await by('berth', 'moved')).points.map(({ fate }) => fate)).toEqual(['gone', 'appeared', 'absent'])
    expect((await by('flag', '1')).points.map(({ fate }) => fate)).toEqual(['absent', 'no table', 'no table'])
    await expect(by('nothing', '1')).rejects.toMatchObject({ code: 'filter_column' })
    await expect(by('leg_id', 'x')).rejects.toMatchObject({ code: 'filter_value' })
  })
})

describe('two points', () => {
  it('are compared by what differs, and little else is read', async () => {
    const result = await comparePoints(bench.engine, points[0]!, points[1]!, leg(), 10)
    expect(result.rows).toMatchObject({ gone: 0, changed: 998, fresh: 0, same: ROWS - 998 })
    expect(result.rows!.byColumn).toEqual({ 1: 1, 2: 997 })
    expect(result.rows!.rows[0]).toMatchObject({ mark: 'changed', key: '77' })
    expect(result.against).toMatchObject({ id: points[1] })
    const other = await comparePoints(bench.engine, points[1]!, points[2]!, leg(), 10)
    expect(other.rows).toMatchObject({ gone: 1, changed: 0, fresh: 0 })
    expect(other.structure.filter(({ mark }) => mark !== 'same').map(({ name, mark }) => [name, mark])).toEqual([['flag', 'new']])
    const none = await comparePoints(bench.engine, points[0]!, points[1]!, bench.path('sales', 'stop'), 10)
    expect(none).toMatchObject({ read: 0, rows: { same: 50, gone: 0 } })
  })
})

describe('taking out', () => {
  async function whole(taken: Export): Promise<string> {
    const parts: Uint8Array[] = []
    let rows = 0
    for await (const piece of taken.pieces()) {
      parts.push(piece.bytes)
      rows += piece.rows
    }
    expect(rows).toBe(taken.rows)
    return Buffer.concat(parts).toString()
  }
  const table = (format: 'sql' | 'csv' | 'jsonl', keys: string[][] | null = null) =>
    exportTable(bench.engine, points[0]!, { path: leg(), format, filter: [], keys }).then(whole)
  const sum = (from: string) => bench.sql(`select count(*), sum(hashtext(t::text)::bigint) from ${from} t`)

  it('as CSV and JSON Lines gives every row, which the server reads back', async () => {
    const csv = await table('csv')
    expect(csv.split('\r\n').length).toBe(ROWS + 2)
    expect(csv.startsWith('leg_id,berth,fare,at,note\r\n1,A-1,1.00,2026-11-01 00:00:01+00,')).toBe(true)
    const lines = (await table('jsonl')).trimEnd().split('\n')
    expect(lines.length).toBe(ROWS)
    expect(JSON.parse(lines[76]!)).toMatchObject({ leg_id: 77, berth: 'A-77', fare: 77 })
  })

  it('as SQL makes the table again when it is run', async () => {
    await bench.restore(vessel, points[0]!, { picks: [leg()] })
    const before = sum('sales.leg')
    const script = await table('sql')
    bench.sql('drop table sales.leg cascade')
    bench.sql(script)
    expect(sum('sales.leg')).toBe(before)
    expect(bench.sql(`select obj_description('sales.leg'::regclass)`)).toBe('One crossing')
  })

  it('of a partitioned table takes its partitions along, whatever the order of their columns', async () => {
    const paid = bench.path('sales', 'paid')
    const take = (format: 'csv' | 'sql', keys: string[][] | null = null) =>
      exportTable(bench.engine, points[0]!, { path: paid, format, filter: [], keys }).then(whole)
    const lines = (await take('csv')).trimEnd().split('\r\n')
    expect(lines[0]).toBe('id,at,note')
    expect(lines.slice(1).sort()).toEqual(bench.sql(`select concat_ws(',', id, at, note) from sales.paid`).split('\n').sort())
    expect(await take('sql', [['60', '2026-01-30']])).toContain(
      `("id", "at", "note") OVERRIDING SYSTEM VALUE VALUES ('60', '2026-01-30', 'n60');`,
    )
    const before = sum('sales.paid')
    const script = await take('sql')
    bench.sql('drop table sales.paid')
    bench.sql(script)
    expect(sum('sales.paid')).toBe(before)
  })

  it('of picked rows is single statements', async () => {
    const script = await table('sql', [['77'], ['99']])
    expect(script.trimEnd().split('\n').length).toBe(2)
    bench.sql('delete from sales.leg where leg_id in (77, 99)')
    bench.sql(script)
    expect(bench.sql('select berth from sales.leg where leg_id in (77, 99) order by leg_id')).toBe('A-77\nA-9')
  })

  it('of a schema is one script', async () => {
    const script = await whole(exportSchema(await openPoint(bench.engine, points[0]!), bench.path('sales')))
    const before = sum('sales.leg')
    bench.sql('drop schema sales cascade')
    bench.sql(script)
    expect(sum('sales.leg')).toBe(before)
    expect(bench.sql('select count(*) from sales.cheap')).not.toBe('0')
    expect(bench.sql('select last_value from sales.ticket')).toBe('4711')
  })
})
