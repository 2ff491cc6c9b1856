import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { NetManifest } from '../../core/changes/manifest'
import { linesOf } from '../../core/compare/rows'
import { openPoint } from '../../engine/points/open'
import { readJson } from '../../engine/store/json'
import type { Vessel } from '../../engine/catalog/vessels'
import { Workbench } from '../support/engine'
import { SHIPS } from '../support/ships'

// Differentials of a source that gives no log: only ranges of keys that differ travel.

let bench: Workbench
let vessel: Vessel

beforeAll(async () => {
  bench = await Workbench.open(`${SHIPS}
    create table sales.wide (id int primary key, ${Array.from({ length: 120 }, (_, i) => `c${i} text`).join(', ')});
    insert into sales.wide (id, c0, c119) select g, e'quote'' back\\\\slash', null from generate_series(1, 50) g;
    create table sales.kinds (id int primary key, b boolean, c char(5), d bytea, j jsonb, a int[], t timestamptz, f float8, n numeric);
    insert into sales.kinds values (1, true, 'ab', '\\x00ff', '{"a": 1}', '{1,null}', '2020-01-01 12:00+02', 'NaN', 1.50), (-5, null, '', '', 'null', '{}', 'infinity', 0.1, 'NaN');
    create table sales.many (id bigint primary key, v text);
    insert into sales.many select g, md5(g::text) from generate_series(-30000, 30000) g;`)
  vessel = await bench.vessel()
  await bench.backup(vessel)
})
afterAll(() => bench?.close())

async function rowsAt(point: string, schema: string, name: string): Promise<string[]> {
  const opened = await openPoint(bench.engine, point)
  const table = opened.members[0]!.manifest.databases[0]!.tables.find(
    (candidate) => candidate.schema === schema && candidate.name === name,
  )!
  const chunks: Uint8Array[] = []
  for await (const bytes of opened.store.readAll(table.chunks.map((chunk) => chunk.name))) chunks.push(bytes)
  return [...linesOf(chunks)].sort()
}
const now = (table: string) =>
  bench.sql(`set timezone = 'UTC'; set extra_float_digits = 3; copy ${table} to stdout`).split('\n').filter(Boolean).sort()
const artifact = async (point: string) =>
  bench.engine.db
    .selectFrom('artifact')
    .innerJoin('point_artifact', 'artifact_id', 'artifact.id')
    .select(['kind', 'rows', 'bytes', 'parent'])
    .where('point_id', '=', point)
    .executeTakeFirstOrThrow()

describe('a differential without a log', () => {
  it('of a source that has not changed holds nothing', async () => {
    const point = await bench.backup(vessel, 'differential')
    expect(await artifact(point)).toMatchObject({ kind: 'differential', rows: 0, bytes: 0 })
    expect(await rowsAt(point, 'sales', 'kinds')).toEqual(now('sales.kinds'))
  })

  it('holds what changed in ranges that differ, and makes every table whole', async () => {
    bench.sql(`update sales.many set v = 'changed' where id between 100 and 120; delete from sales.many where id = -29999; insert into sales.many values (99999, 'far');
      update sales.wide set c119 = 'x' where id = 3; delete from sales.payment where payment_id = 7; insert into "Odd ""schema"""."no key" values (1, null);
      create table sales.fresh (id int primary key); insert into sales.fresh values (1)`)
    const point = await bench.backup(vessel, 'differential')
    const made = await artifact(point)
    expect(Number(made.rows)).toBeLessThan(40)
    for (const [schema, name] of [
      ['sales', 'many'],
      ['sales', 'wide'],
      ['sales', 'payment_2026_10'],
      ['sales', 'fresh'],
      ['sales', 'leg'],
      ['Odd "schema"', 'no key'],
    ] as const)
      expect([name, await rowsAt(point, schema, name)]).toEqual([name, now(`"${schema.replaceAll('"', '""')}"."${name}"`)])
  })

  it('reads a table whole of which too much differs to be held', async () => {
    bench.sql(`create table sales.large (id int primary key, v text);
      insert into sales.large select g, repeat(md5(g::text), 3000) from generate_series(1, 1000) g`)
    const full = await bench.backup(vessel)
    const held = async (point: string) => {
      const { manifest } = await bench.engine.db
        .selectFrom('artifact')
        .innerJoin('point_artifact', 'artifact_id', 'artifact.id')
        .select('manifest')
        .where('point_id', '=', point)
        .executeTakeFirstOrThrow()
      const { store } = await openPoint(bench.engine, full)
      const { changed, whole } = await readJson<NetManifest>(store, manifest)
      return { changed: changed.length, whole: whole.map(({ name }) => name) }
    }
    bench.sql(`update sales.large set v = reverse(v) where id <= 10`)
    expect(await held(await bench.backup(vessel, 'differential'))).toEqual({ changed: 1, whole: [] })
    bench.sql('update sales.large set v = reverse(v)')
    const point = await bench.backup(vessel, 'differential')
    expect(await held(point)).toEqual({ changed: 0, whole: ['large'] })
    expect((await rowsAt(point, 'sales', 'large')).join()).toBe(now('sales.large').join())
  })

  it('is told why nothing else can be computed', async () => {
    const run = await bench.run('backup', vessel, { what: 'incremental' })
    expect(run.error).toMatchObject({ code: 'no_log' })
  })
})
