import { spawn } from 'node:child_process'
import { writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { Chains, type Artifact } from '../core/chain/chain'
import { refAtPosition } from '../core/chain/moment-ref'
import { wishOf } from '../core/restore/wish'
import { countInWords } from '../core/time/words'
import { defaultLog } from '../core/plan/definition'
import { saveDefinition, vesselBySlug } from '../engine/catalog/vessels'
import { waitForLog } from '../engine/log/wait'
import { Bench, best, folder, psql, report, server, timed } from './support'

// Chains and time: what a follower keeps up with and costs, and how soon a moment is there.

const ROWS = Number(process.env.ROWS ?? 2_000_000)
const CHANGES = 1_000_000
const MEMBER = 'db/bench'
const LOAD_SECONDS = 12
const RATE = 20_000

function makeData(): void {
  server.psql(
    'bench',
    `create table one (id bigint primary key, booking_id bigint not null, berth text not null, fare numeric(8, 2) not null, note text, updated_at timestamptz not null);
      insert into one select g, g / 2, 'A-' || g % 140, (g % 20000) / 100.0, md5(g::text), timestamptz '2026-01-01' + g * interval '7 seconds' from generate_series(1, ${ROWS}) g;
      create table load (id bigint generated always as identity primary key, n int not null, note text not null); vacuum analyze;`,
  )
}

/** Chains over very many artifacts: fulls, differentials and segments of log. */
function resolution(bench: Bench): void {
  const artifacts: Artifact[] = []
  const position = (n: number) => `${(n >>> 16).toString(16)}/${((n & 0xffff) << 8).toString(16)}`
  const base = { member: MEMBER, era: '1', rows: 1, bytes: 1, stored: 1 }
  let full = ''
  for (let i = 1; artifacts.length < 100_000; i++) {
    const [from, to] = [position(i), position(i + 1)]
    const [fromAt, at] = [new Date(i * 10_000), new Date((i + 1) * 10_000)]
    if (i % 5000 === 1) artifacts.push({ ...base, id: (full = `f${i}`), kind: 'full', parent: null, from, to: from, fromAt, at: fromAt })
    else if (i % 500 === 1)
      artifacts.push({ ...base, id: `d${i}`, kind: 'differential', parent: full, from: '0/0', to: from, fromAt, at: fromAt })
    artifacts.push({ ...base, id: `l${i}`, kind: 'log', parent: null, from, to, fromAt, at })
  }
  const chains = new Chains(artifacts)
  const rounds = 400
  const from = performance.now()
  for (let i = 0; i < rounds; i++) {
    const at = new Date(20_000 + ((i * 7919) % 98_000) * 10_000)
    if (!chains.at(MEMBER, at)?.exact) throw new Error('a moment was not found')
  }
  bench.tell('a chain resolved among 100,000 artifacts', (performance.now() - from) / rounds, 5, 'ms', true)
}

const BATCH = 200

/** Writes rows with the server's own load generator, as fast as it can or at a rate; returns rows a second. */
async function write(seconds: number, rate: number | null): Promise<number> {
  const script = join(folder, 'load.sql')
  writeFileSync(script, `insert into load (n, note) select g, md5(g::text) from generate_series(1, ${BATCH}) g;`)
  const pace = rate === null ? [] : [`--rate=${rate / BATCH}`]
  const child = spawn('/usr/lib/postgresql/15/bin/pgbench', [
    '-n',
    '-f',
    script,
    '-T',
    String(seconds),
    '-c',
    '2',
    ...pace,
    server.url('bench'),
  ])
  let told = ''
  child.stdout.on('data', (part: Buffer) => (told += part.toString()))
  await new Promise((resolve) => child.on('close', resolve))
  return Number(/tps = ([\d.]+)/.exec(told)![1]) * BATCH
}

async function flush(bench: Bench, vesselId: string): Promise<number> {
  const position = server.psql('bench', 'select pg_current_wal_lsn()')
  return timed(() => waitForLog(bench.engine, vesselId, MEMBER, position, new AbortController().signal))
}

async function follower(bench: Bench, vesselId: string): Promise<void> {
  const [alone, paced] = [await write(LOAD_SECONDS, null), await write(LOAD_SECONDS, RATE)]
  bench.engine.followLogs()
  await flush(bench, vesselId)
  const followed = await write(LOAD_SECONDS, null)
  console.log(
    `as fast as it goes: ${Math.round(alone)} rows/s alone, ${Math.round(followed)} while they are followed, all on the same cores`,
  )
  await flush(bench, vesselId)
  const reached = await write(LOAD_SECONDS, RATE)
  const behind = await flush(bench, vesselId)
  bench.tell(`a write load of ${countInWords(RATE)} rows a second at the source, followed against not followed`, reached / paced, 0.9)
  bench.tell(
    `rows a second that were followed (${countInWords(Math.round(reached))} written), all in the store`,
    reached / (1 + behind / LOAD_SECONDS),
    RATE * 0.95,
    'rows/s',
  )
  console.log(`the last of them were in the store after ${behind.toFixed(1)} s`)
}

async function toAMoment(bench: Bench, vesselId: string, full: string): Promise<void> {
  await psql('bench', `update one set fare = fare + 1, note = md5(note) where id % ${Math.max(1, Math.floor(ROWS / (CHANGES * 0.8)))} = 0`)
  await psql(
    'bench',
    `delete from one where id <= ${CHANGES * 0.1}; insert into one select ${ROWS} + g, g, 'B', 1, 'new', now() from generate_series(1, ${CHANGES * 0.1}) g`,
  )
  await flush(bench, vesselId)
  const position = server.psql('bench', 'select pg_current_wal_insert_lsn()')
  await flush(bench, vesselId)
  const restore = (point: string) => {
    const into = { mode: 'beside' as const, schema: null, prefix: '', suffix: '_back', names: {} }
    return bench.run('restore', { point, wish: wishOf({ picks: ['db/bench/public/one'], into, what: 'both', keepDays: 1 }), reason: null })
  }
  const again = async (point: string) => {
    const { seconds } = await restore(point)
    await psql('bench', 'drop table one_back')
    return seconds
  }
  const alone = await best(() => again(full))
  const moment = await best(() => again(refAtPosition('bench', 'db', position)))
  bench.tell(
    `one table to a moment, from a chain with ${countInWords(CHANGES)} changes, against its full alone`,
    moment / alone,
    1.3,
    '×',
    true,
  )
}

async function differential(bench: Bench): Promise<void> {
  const reads = () =>
    Number(server.psql('bench', `select coalesce(sum(seq_scan + coalesce(idx_scan, 0)), 0) from pg_stat_user_tables where relname = 'one'`))
  server.psql('bench', 'select pg_stat_force_next_flush()')
  const before = reads()
  const { seconds } = await bench.run('backup', { what: 'differential' })
  bench.tell('scans of the source’s tables for a differential', reads() - before, 0, 'scans', true)
  console.log(`the differential took ${seconds.toFixed(1)} s`)
}

export async function logging(): Promise<void> {
  await Bench.with(2, makeData, async (bench) => {
    resolution(bench)
    const { id, definition, version } = await vesselBySlug(bench.engine, 'bench')
    await saveDefinition(bench.engine, 'bench', version, { ...definition, log: { ...defaultLog(true), keepAtMost: 8 * 2 ** 30 } })
    const vessel = await vesselBySlug(bench.engine, 'bench')
    const { outcome } = await bench.run('backup', {}, vessel)
    await follower(bench, id)
    await toAMoment(bench, id, outcome.point)
    await differential(bench)
    console.log(`peak ${Math.round(bench.peak / 1e6)} MB`)
    report('Chains and time', `a table of ${countInWords(ROWS)} rows`, bench.figures)
  })
}
