import { spawn } from 'node:child_process'
import { randomUUID } from 'node:crypto'
import { chmodSync, createReadStream, createWriteStream, mkdtempSync, rmSync, statSync, writeFileSync } from 'node:fs'
import { tmpdir, cpus } from 'node:os'
import { join } from 'node:path'
import { pipeline } from 'node:stream/promises'
import { bytesInWords, countInWords } from '../core/time/words'
import { PostgresServer } from '../demo/postgres-server'
import { addRun } from '../engine/catalog/runs'
import { addSource } from '../engine/catalog/sources'
import { addStore } from '../engine/catalog/stores'
import { addVessel, type Vessel } from '../engine/catalog/vessels'
import type { RunKind } from '../engine/catalog/types'
import { Engine } from '../engine/engine'
import { perform } from '../engine/runs/runner'

// Every figure is a ratio against a baseline that is measured in the same run on the same data.

const ROWS = Number(process.env.ROWS ?? 1_500_000)
const ROUNDS = Number(process.env.ROUNDS ?? 3)
const TABLES = ['one', 'two']
const PORT = Number(process.env.BENCH_PORT ?? 54339)

interface Figure {
  what: string
  measured: string
  goal: string
  met: boolean
}

const folder = mkdtempSync(join(tmpdir(), 'vessel-bench-'))
chmodSync(folder, 0o755)
const server = new PostgresServer({
  folder: join(folder, 'server'),
  port: PORT,
  password: 'bench',
  settings: { shared_buffers: '1GB', max_wal_size: '8GB', wal_level: 'logical', checkpoint_timeout: '30min' },
})

async function timed(work: () => Promise<unknown>): Promise<number> {
  const from = process.hrtime.bigint()
  await work()
  return Number(process.hrtime.bigint() - from) / 1e9
}

/** The quickest of some rounds: what stands in the way of the others is the machine's affair. */
async function best(work: () => Promise<number>): Promise<number> {
  let least = Infinity
  for (let round = 0; round < ROUNDS; round++) least = Math.min(least, await work())
  return least
}

function program(name: string, args: string[], files: { in?: string; out?: string } = {}): Promise<void> {
  const child = spawn(name, args, { stdio: [files.in ? 'pipe' : 'ignore', files.out ? 'pipe' : 'ignore', 'inherit'] })
  const pipes: Promise<unknown>[] = []
  if (files.in) pipes.push(pipeline(createReadStream(files.in, { highWaterMark: 1 << 20 }), child.stdin!))
  if (files.out) pipes.push(pipeline(child.stdout!, createWriteStream(files.out)))
  const ended = new Promise<void>((resolve, reject) => {
    child.on('error', reject).on('close', (code) => (code === 0 ? resolve() : reject(new Error(`${name} ended with ${code}`))))
  })
  return Promise.all([ended, ...pipes]).then(() => undefined)
}

const psql = (database: string, sql: string, files: { in?: string; out?: string } = {}) =>
  program('psql', ['-XAtq', '-v', 'ON_ERROR_STOP=1', '-d', server.url(database), '-c', sql], files)

function makeData(): void {
  server.psql('postgres', 'create database bench')
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

class Bench {
  readonly figures: Figure[] = []
  peak = 0

  constructor(
    private readonly engine: Engine,
    private readonly vessel: Vessel,
    private readonly alone: Vessel,
  ) {}

  async run(kind: RunKind, params: Record<string, unknown> = {}, vessel = this.vessel) {
    const id = await addRun(this.engine, { kind, vessel, startedBy: 'the benchmark', params })
    const watching = setInterval(() => (this.peak = Math.max(this.peak, process.memoryUsage().rss)), 50)
    const seconds = await timed(() => perform(this.engine, id))
    clearInterval(watching)
    const run = await this.engine.db.selectFrom('run').selectAll().where('id', '=', id).executeTakeFirstOrThrow()
    if (run.state !== 'done') throw new Error(`the run ended as ${run.state}: ${JSON.stringify(run.error)}`)
    return { seconds, outcome: run.outcome as { point: string; stored: number }, counters: run.counters }
  }

  /** A full backup over one connection only. */
  backupAlone() {
    return this.run('backup', {}, this.alone)
  }

  tell(what: string, value: number, goal: number, unit = '×', atMost = false): void {
    const met = atMost ? value <= goal : value >= goal
    this.figures.push({ what, measured: `${value.toFixed(2)} ${unit}`, goal: `${atMost ? 'at most' : 'at least'} ${goal} ${unit}`, met })
    console.log(`${met ? 'met   ' : 'MISSED'} ${what}: ${value.toFixed(2)} ${unit} (${atMost ? 'at most' : 'at least'} ${goal})`)
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

async function main(): Promise<void> {
  console.log(`${countInWords(ROWS)} rows in each of ${TABLES.length} tables, best of ${ROUNDS} rounds, ${cpus().length} cores`)
  server.create()
  server.start()
  makeData()
  server.psql('postgres', 'create database catalog')
  const engine = await Engine.start({ catalog: server.url('catalog'), root: process.cwd(), masterKeyFile: join(folder, 'master.key') })
  try {
    await addStore(engine, { name: 'store', path: join(folder, `store-${randomUUID()}`) })
    await addSource(engine, {
      name: 'db',
      password: 'bench',
      settings: { host: '127.0.0.1', port: PORT, user: 'postgres', database: 'postgres', tls: 'off' },
    })
    const vessel = (name: string, readers: number) =>
      addVessel(engine, name, {
        rules: [{ id: 'a', act: 'take', kind: 'database', pattern: 'db/bench' }],
        store: 'store',
        promises: { couldLose: null, backWithin: null },
        readers,
      })
    const bench = new Bench(engine, await vessel('Bench', TABLES.length), await vessel('Alone', 1))
    const size = server.psql('bench', TABLES.map((table) => `select pg_table_size('${table}')`).join(';'))
    const first = await backups(bench, engine)
    await restores(bench, first.point)
    await second(bench, first.stored)
    bench.tell('Resident memory at its highest, in backups and restores', bench.peak / 1e6, 400, 'MB', true)
    report(bench.figures, size)
  } finally {
    await engine.close()
    server.remove()
    rmSync(folder, { recursive: true, force: true })
  }
}

function report(figures: Figure[], size: string): void {
  const bytes = size.split('\n').reduce((sum, line) => sum + Number(line), 0)
  const lines = figures.map(({ what, measured, goal, met }) => `| ${what} | ${measured} | ${goal} | ${met ? 'met' : 'missed'} |`)
  writeFileSync(
    'docs/benchmarks.md',
    `# Benchmarks

Written by \`bin/bench\` on ${new Date().toISOString().slice(0, 10)}: ${TABLES.length} tables of ${countInWords(ROWS)} rows (${bytesInWords(bytes)} at the source), best of ${ROUNDS} rounds, ${cpus().length} cores shared by the server, its clients and us. Every figure is a ratio against a baseline of the same run.

| what | measured | goal | |
|---|---|---|---|
${lines.join('\n')}
`,
  )
}

await main()
