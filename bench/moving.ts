import { statSync } from 'node:fs'
import { join } from 'node:path'
import { bytesInWords, countInWords } from '../core/time/words'
import type { Engine } from '../engine/engine'
import { Bench, best, folder, program, psql, report, ROUNDS, server, timed } from './support'

// Backups and restores: how fast rows move, and what they cost.

const ROWS = Number(process.env.ROWS ?? 1_500_000)
const TABLES = ['one', 'two']

function makeData(): void {
  for (const table of TABLES) {
    server.psql(
      'bench',
      `select setseed(0.3);
      create table ${table} (id bigint primary key, booking_id bigint not null, berth text not null, fare numeric(8, 2) not null, status text not null, note text, updated_at timestamptz not null);
      insert into ${table} select g, g / 2, (array['A', 'B', 'C', 'deck'])[1 + g % 4] || '-' || (100 + g % 140), (random() * 200)::numeric(8, 2),
        (array['held', 'paid', 'boarded', 'sailed'])[1 + (random() * 3)::int], case when g % 3 = 0 then md5(g::text) end, timestamptz '2026-01-01' + g * interval '7 seconds'
        from generate_series(1, ${ROWS}) g;
      create index ${table}_by_booking on ${table} (booking_id); vacuum analyze ${table};`,
    )
  }
}

/** Copies content out of the way, so that every round stores everything. */
async function emptyStore(engine: Engine): Promise<void> {
  for (const table of ['point_artifact', 'point', 'artifact', 'chunk', 'pack'] as const) await engine.db.deleteFrom(table).execute()
}

async function backups(bench: Bench, engine: Engine): Promise<{ point: string; stored: number }> {
  await psql('bench', TABLES.map((table) => `select count(*) from ${table}`).join(';'))
  const raw = await best(() => timed(() => Promise.all(TABLES.map((table) => psql('bench', `copy ${table} to stdout`)))))
  const dump = await best(() => timed(() => program('pg_dump', ['-Fc', '-d', server.url('bench'), '-f', join(folder, 'dump')])))
  let last = { point: '', stored: 0 }
  const full = await best(async () => {
    await emptyStore(engine)
    const { seconds, outcome } = await bench.run('backup')
    last = outcome
    return seconds
  })
  const rawAlone = await best(() =>
    timed(async () => {
      for (const table of TABLES) await psql('bench', `copy ${table} to stdout`)
    }),
  )
  const before = process.cpuUsage()
  let read = 0
  const fullAlone = await best(async () => {
    await emptyStore(engine)
    const { seconds, counters } = await bench.backupAlone()
    read += counters.bytes!
    return seconds
  })
  const { user, system } = process.cpuUsage(before)
  console.log(
    `over one connection: raw COPY ${rawAlone.toFixed(1)} s, full backup ${fullAlone.toFixed(1)} s; ${((user + system) / 1e6 / (read / 1e9)).toFixed(1)} s of processor time for a gigabyte`,
  )
  await emptyStore(engine)
  last = (await bench.run('backup')).outcome
  console.log(`raw COPY ${raw.toFixed(1)} s, dump ${dump.toFixed(1)} s, full backup ${full.toFixed(1)} s`)
  bench.tell('Full backup, against raw COPY to nowhere over as many connections', raw / full, 0.85)
  bench.tell('The same over one connection, where a core is left for the work', rawAlone / fullAlone, 0.85)
  bench.tell('Full backup, against the server’s dump utility at its default compression', dump / full, 2.5)
  return last
}

async function restores(bench: Bench, point: string): Promise<void> {
  const file = join(folder, 'one.copy')
  await psql('bench', 'copy one to stdout', { out: file })
  const raw = await best(async () => {
    server.psql('bench', 'drop table if exists raw; create table raw (like one including all)')
    return timed(() => psql('bench', 'copy raw from stdin', { in: file }))
  })
  server.psql('bench', 'drop table raw; checkpoint')
  const wish = { picks: ['db/bench/public/one'], into: { mode: 'original' }, collide: 'replace', each: {} }
  const restore = await best(async () => {
    server.psql('bench', 'drop table one; checkpoint')
    return (await bench.run('restore', { point, wish, reason: null })).seconds
  })
  console.log(`raw COPY in ${raw.toFixed(1)} s, restore with proof ${restore.toFixed(1)} s`)
  bench.tell('Restore of a dropped table with its indexes and its proof, against raw COPY into the same structure', raw / restore, 0.8)
  console.log(`the file that was copied is ${bytesInWords(statSync(file).size)}`)
}

async function second(bench: Bench, stored: number): Promise<void> {
  for (const table of TABLES) server.psql('bench', `update ${table} set status = 'resold' where id % 100 = 7; vacuum ${table}`)
  const { outcome } = await bench.run('backup')
  bench.tell('Second full after 1 % of the rows changed, of what the first stored', (outcome.stored / stored) * 100, 6, '%', true)
  const again = await bench.run('backup')
  console.log(`a third full of the same rows stores ${bytesInWords(again.outcome.stored)}`)
}

export async function moving(): Promise<void> {
  console.log(`${countInWords(ROWS)} rows in each of ${TABLES.length} tables, best of ${ROUNDS} rounds`)
  await Bench.with(TABLES.length, makeData, async (bench) => {
    const sizes = server.psql('bench', TABLES.map((table) => `select pg_table_size('${table}')`).join(';')).split('\n')
    const first = await backups(bench, bench.engine)
    await restores(bench, first.point)
    await second(bench, first.stored)
    bench.tell('Resident memory at its highest, in backups and restores', bench.peak / 1e6, 400, 'MB', true)
    const bytes = sizes.reduce((sum, size) => sum + Number(size), 0)
    const about = `${TABLES.length} tables of ${countInWords(ROWS)} rows (${bytesInWords(bytes)} at the source), best of ${ROUNDS} rounds`
    report('Moving rows', about, bench.figures)
  })
}
