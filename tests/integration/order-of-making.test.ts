import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { Vessel } from '../../engine/catalog/vessels'
import { unwell, Workbench } from '../support/engine'

// Structures whose parts need each other in ways that a plain order of making does not satisfy. The oracle is the
// server's own dump.

const DATA = `
create table a_ruled (id int primary key, v text); create table z_copy (id int, v text);
insert into a_ruled values (1, 'a'); create rule cp as on insert to a_ruled do also insert into z_copy values (new.id, new.v);
create table a_guarded (id int primary key, v text); create table z_allowed (id int primary key); insert into a_guarded values (1, 'x'); insert into z_allowed values (1);
alter table a_guarded enable row level security; create policy only_allowed on a_guarded using (exists (select from z_allowed z where z.id = a_guarded.id));
create table a_names (id int primary key, what regclass, many regclass[], how regproc); create table z_named (id int primary key);
create function z_how() returns int language sql as 'select 1'; create view z_view as select id from z_named;
insert into a_names values (1, 'z_named', array['a_ruled', 'z_copy']::regclass[], 'z_how'), (2, 'z_view', null, null);
create table grouped (id int primary key, name text, other int); create table z_parts (grouped int, n int); insert into grouped values (1, 'g', 2); insert into z_parts values (1, 5);
create view by_key as select g.id, g.name, sum(p.n) as n from grouped g join z_parts p on p.grouped = g.id group by g.id;
create view over_by_key as select * from by_key; grant select on by_key to public; comment on view by_key is 'grouped by its key';
create extension postgres_fdw; create server far foreign data wrapper postgres_fdw options (host 'far.example', port '1');
create table z_parent (id int, v text); create foreign table a_child (w int) inherits (z_parent) server far options (table_name 'x');
create type colour as enum ('red', 'green', 'blue', 'white'); create table tinted (c colour, n int, note text, primary key (c, n)) partition by hash (c);
create table tinted_0 partition of tinted for values with (modulus 3, remainder 0); create table tinted_1 partition of tinted for values with (modulus 3, remainder 1);
create table tinted_2 partition of tinted for values with (modulus 3, remainder 2);
insert into tinted select c::colour, g, 'n' || g from unnest(array['red', 'green', 'blue', 'white']) c, generate_series(1, 50) g;
`

let bench: Workbench
let vessel: Vessel
let point: string
beforeAll(async () => {
  bench = await Workbench.open(DATA)
  vessel = await bench.vessel('Order')
  point = await bench.backup(vessel)
})
afterAll(() => bench?.close())

const structureOf = (database: string) => bench.server.dump(database, ['--schema-only'])
const TABLES = ['a_ruled', 'z_copy', 'a_guarded', 'a_names', 'grouped', 'z_parts', 'tinted']
const rowsOf = (database: string) =>
  TABLES.map((table) => bench.server.psql(database, `copy (select t::text from ${table} t order by 1) to stdout`))

describe('what needs what is made later', () => {
  it('comes back whole, into another database', async () => {
    // What the objects are called is no order that helps.
    const database = `${bench.database}_order`
    bench.server.psql('postgres', `create database ${database}`)
    bench.server.psql(database, `create type shift as enum ('so that', 'the numbers', 'of what follows', 'are others')`)
    bench.server.psql(database, 'drop type shift')
    const { run, receipts } = await bench.restore(vessel, point, { into: { mode: 'elsewhere', source: 'db', database } })
    expect(run.error).toBeNull()
    expect(unwell(receipts)).toEqual([])
    expect(structureOf(database)).toBe(structureOf(bench.database))
    expect(rowsOf(database)).toEqual(rowsOf(bench.database))
    bench.server.psql('postgres', `drop database ${database} with (force)`)
  })

  it('comes back with a table alone that a view is grouped by, though what else the view reads is not picked', async () => {
    const [structure, rows] = [structureOf(bench.database), rowsOf(bench.database)]
    bench.sql('drop table grouped cascade')
    const { run, receipts } = await bench.restore(vessel, point, { picks: [bench.path('public', 'grouped')] })
    expect(run.error).toBeNull()
    expect(unwell(receipts)).toEqual([])
    bench.sql('select * from by_key')
    const picks = ['by_key', 'over_by_key'].map((name) => bench.path('public', name))
    const views = await bench.restore(vessel, point, { picks })
    expect(unwell(views.receipts)).toEqual([])
    expect(structureOf(bench.database)).toBe(structure)
    expect(rowsOf(bench.database)).toEqual(rows)
  })

  it('is as it was in place after all of it was damaged', async () => {
    const [structure, rows] = [structureOf(bench.database), rowsOf(bench.database)]
    bench.sql(
      `delete from tinted where n > 10; alter table a_names add column x int; alter table z_copy add column y int; drop rule cp on a_ruled; delete from grouped; drop view over_by_key`,
    )
    const { run, receipts } = await bench.restore(vessel, point, {})
    expect(run.error).toBeNull()
    expect(unwell(receipts)).toEqual([])
    expect(structureOf(bench.database)).toBe(structure)
    expect(rowsOf(bench.database)).toEqual(rows)
  })
})
