import { writeFileSync } from 'node:fs'
import { describe, expect, it } from 'vitest'
import { refAtPosition } from '../../core/chain/moment-ref'
import { defaultLog } from '../../core/plan/definition'
import { exportSchema } from '../../engine/look/export'
import { openPoint } from '../../engine/points/open'
import { waitForLog } from '../../engine/log/wait'
import { unwell, Workbench } from '../support/engine'

// Databases of other encodings, and of none: the bytes that come back are the bytes that were there. The oracle is
// the server, which sums them up.

const SUMS = `select md5(string_agg(md5(t::text), ',' order by md5(t::text))) from fish t; select count(*) from fish;
  select md5(string_agg(md5(t::text), ',' order by md5(t::text))) from named t;
  select md5(pg_get_functiondef('catch'::regproc)), md5(obj_description('fish'::regclass)), md5(pg_get_viewdef('shown'::regclass));
  select md5(pg_get_expr(adbin, adrelid)) from pg_attrdef; select md5(string_agg(relname || attname, ',' order by relname, attname)) from pg_attribute a join pg_class c on c.oid = attrelid where relkind = 'r' and attnum > 0 and relnamespace = 'public'::regnamespace`

describe.each([
  { name: 'of the west', how: `encoding 'LATIN1' locale 'C'`, fish: `chr(233) || 'perlan'`, word: `'Ã©'`, of: 'utf8' },
  { name: 'of no encoding', how: `encoding 'SQL_ASCII' locale 'C'`, fish: `E'\\xe9perlan\\xff'`, word: `E'\\x80'`, of: 'none' },
])('a database $name', ({ how, fish, word, of }) => {
  it('comes back whole, from a differential, from its log, row by row, and over damage', async () => {
    const bench = await Workbench.open()
    const { server, engine } = bench
    const database = `${bench.database}_odd`
    server.psql('postgres', `create database ${database} template template0 ${how}`)
    const sql = (text: string) =>
      server.psql(database, `${of === 'utf8' ? `set client_encoding = 'UTF8'` : ''}; ${text}`).replace(/^SET\n/, '')
    sql(`create table fish (name text primary key, n int, v text default ${word}); insert into fish select ${fish} || g, g from generate_series(1, 500) g; create index on fish (v);
      create table named (id int primary key, v text); insert into named select g, ${fish} || g from generate_series(1, 9) g;
      do $$ begin execute format('comment on table fish is %L', ${fish}); execute format('create function catch() returns text language sql as %L', 'select ' || quote_literal(${fish})); execute format('create view shown as select name, %L::text as as_is from fish', ${word});
         end $$`)
    try {
      engine.followLogs(500)
      const sums = () => sql(SUMS)
      const vessel = await bench.vessel('Odd', [`db/${database}`], 2, defaultLog(true))
      const full = await bench.backup(vessel)
      const read = await bench.vessel('Odd, read', [`db/${database}`])
      await bench.backup(read)
      const before = sums()
      sql(`update fish set v = name || v where n < 50; delete from fish where n = 77; insert into fish select ${fish} || ${fish}, 1000`)
      const differential = await bench.backup(vessel, 'differential')
      const compared = await bench.backup(read, 'differential')
      const changed = sums()
      sql(`update fish set name = name || ${word}, v = v || ${word} where n between 100 and 120; delete from named where id = 3`)
      const position = sql('select pg_current_wal_insert_lsn()')
      const logged = sums()
      sql(`insert into fish select 'later' || ${word}, 1`)
      await waitForLog(engine, vessel.id, `db/${database}`, position, new AbortController().signal)
      const comesBack = async (point: string, expected: string) => {
        const { run, receipts } = await bench.restore(vessel, point, { picks: [`db/${database}`], collide: 'replace' })
        expect(run.error).toBeNull()
        expect(unwell(receipts)).toEqual([])
        expect(sums()).toBe(expected)
      }
      await comesBack(full, before)
      await comesBack(differential, changed)
      await comesBack(compared, changed)
      sql('drop view shown; drop table fish; drop table named; drop function catch')
      await comesBack(refAtPosition(vessel.slug, 'db', position), logged)
      sql(`delete from fish where n % 3 = 0; update fish set v = 'bad' where n % 3 = 1`)
      const { receipts } = await bench.restore(vessel, refAtPosition(vessel.slug, 'db', position), {
        picks: [`db/${database}/public/fish`],
        collide: 'merge',
      })
      expect(unwell(receipts)).toEqual([])
      expect(sql('select count(*) from fish')).toBe(logged.split('\n')[1])
      await comesBack(refAtPosition(vessel.slug, 'db', position), logged)
      const pieces: Uint8Array[] = []
      for await (const { bytes } of exportSchema(await openPoint(engine, full), `db/${database}/public`).pieces()) pieces.push(bytes)
      writeFileSync(`${bench.place}.sql`, Buffer.concat(pieces))
      sql(`drop view shown; drop table fish; drop table named; drop function catch;\n\\i ${bench.place}.sql`)
      expect(sums()).toBe(before)
    } finally {
      await bench.close()
      server.psql(
        'postgres',
        `select pg_terminate_backend(active_pid) from pg_replication_slots where database = '${database}' and active_pid is not null`,
      )
      server.psql('postgres', `select pg_drop_replication_slot(slot_name) from pg_replication_slots where database = '${database}'`)
    }
  })
})
