import { spawn } from 'node:child_process'
import { chmodSync, createReadStream, createWriteStream, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { cpus, tmpdir } from 'node:os'
import { join } from 'node:path'
import { pipeline } from 'node:stream/promises'
import { PostgresServer } from '../demo/postgres-server'
import { addRun } from '../engine/catalog/runs'
import { addSource } from '../engine/catalog/sources'
import { addStore } from '../engine/catalog/stores'
import { addVessel, type Vessel } from '../engine/catalog/vessels'
import type { RunKind } from '../engine/catalog/types'
import { Engine } from '../engine/engine'
import { perform } from '../engine/runs/runner'

// What the benchmarks share: a server, an engine with a store on it, and figures that are told and written down.

export const ROUNDS = Number(process.env.ROUNDS ?? 3)
const PORT = Number(process.env.BENCH_PORT ?? 3219)

interface Figure {
  what: string
  measured: string
  goal: string
  met: boolean
}

export const folder = mkdtempSync(join(tmpdir(), 'vessel-bench-'))
chmodSync(folder, 0o755)
export const server = new PostgresServer({
  folder: join(folder, 'server'),
  port: PORT,
  password: 'bench',
  settings: { shared_buffers: '1GB', max_wal_size: '8GB', wal_level: 'logical', checkpoint_timeout: '30min' },
})

export async function timed(work: () => Promise<unknown>): Promise<number> {
  const from = process.hrtime.bigint()
  await work()
  return Number(process.hrtime.bigint() - from) / 1e9
}

/** The quickest of some rounds: what stands in the way of the others is the machine's affair. */
export async function best(work: () => Promise<number>): Promise<number> {
  let least = Infinity
  for (let round = 0; round < ROUNDS; round++) least = Math.min(least, await work())
  return least
}

export function program(name: string, args: string[], files: { in?: string; out?: string } = {}): Promise<void> {
  const child = spawn(name, args, { stdio: [files.in ? 'pipe' : 'ignore', files.out ? 'pipe' : 'ignore', 'inherit'] })
  const pipes: Promise<unknown>[] = []
  if (files.in) pipes.push(pipeline(createReadStream(files.in, { highWaterMark: 1 << 20 }), child.stdin!))
  if (files.out) pipes.push(pipeline(child.stdout!, createWriteStream(files.out)))
  const ended = new Promise<void>((resolve, reject) => {
    child.on('error', reject).on('close', (code) => (code === 0 ? resolve() : reject(new Error(`${name} ended with ${code}`))))
  })
  return Promise.all([ended, ...pipes]).then(() => undefined)
}

export const psql = (database: string, sql: string, files: { in?: string; out?: string } = {}) =>
  program('psql', ['-XAtq', '-v', 'ON_ERROR_STOP=1', '-d', server.url(database), '-c', sql], files)

/** What was measured, each beside its goal. */
export class Figures {
  readonly all: Figure[] = []

  tell(what: string, value: number, goal: number, unit = '×', atMost = false): void {
    const met = atMost ? value <= goal : value >= goal
    this.all.push({ what, measured: `${value.toFixed(2)} ${unit}`, goal: `${atMost ? 'at most' : 'at least'} ${goal} ${unit}`, met })
    console.log(`${met ? 'met   ' : 'MISSED'} ${what}: ${value.toFixed(2)} ${unit} (${atMost ? 'at most' : 'at least'} ${goal})`)
  }
}

export class Bench {
  private readonly measured = new Figures()
  readonly figures = this.measured.all
  peak = 0

  constructor(
    readonly engine: Engine,
    private readonly vessel: Vessel,
    private readonly alone: Vessel,
  ) {}

  /** With a server, a catalog, a store and a source of their own; what it needs is removed when the work is over. */
  static async with(readers: number, prepare: () => void, work: (bench: Bench) => Promise<void>): Promise<void> {
    server.create()
    server.start()
    server.psql('postgres', 'create database bench; create database catalog')
    prepare()
    const engine = await Engine.start({ catalog: server.url('catalog'), root: process.cwd(), masterKeyFile: join(folder, 'master.key') })
    try {
      await addStore(engine, { name: 'store', path: join(folder, 'store') })
      const settings = { host: '127.0.0.1', port: PORT, user: 'postgres', database: 'postgres', tls: 'off' as const }
      await addSource(engine, { name: 'db', password: 'bench', settings })
      const vessel = (name: string, count: number) =>
        addVessel(engine, name, {
          rules: [{ id: 'a', act: 'take', kind: 'database', pattern: 'db/bench' }],
          store: 'store',
          promises: { couldLose: null, backWithin: null },
          readers: count,
        })
      await work(new Bench(engine, await vessel('Bench', readers), await vessel('Alone', 1)))
    } finally {
      await engine.close()
      server.remove()
      rmSync(folder, { recursive: true, force: true })
    }
  }

  async run(kind: RunKind, params: Record<string, unknown> = {}, vessel = this.vessel) {
    const id = await addRun(this.engine, { kind, vessel, startedBy: 'the benchmark', params })
    const watching = setInterval(() => (this.peak = Math.max(this.peak, process.memoryUsage.rss())), 200)
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

  tell(...figure: Parameters<Figures['tell']>): void {
    this.measured.tell(...figure)
  }
}

/** Writes the figures of one part into docs/benchmarks.md, in place of its earlier ones. */
export function report(part: string, about: string, figures: Figure[]): void {
  const path = 'docs/benchmarks.md'
  const lines = figures.map(({ what, measured, goal, met }) => `| ${what} | ${measured} | ${goal} | ${met ? 'met' : 'missed'} |`)
  const section = `## ${part}

Written by \`bin/bench\` on ${new Date().toISOString().slice(0, 10)}: ${about}, on ${cpus().length} cores shared by the server, its clients and us.

| what | measured | goal | |
|---|---|---|---|
${lines.join('\n')}
`
  const others = readFileSync(path, 'utf8')
    .split(/^(?=## )/m)
    .slice(1)
    .filter((other) => !other.startsWith(`## ${part}\n`))
  const sections = [...others, section].map((text) => text.trim()).sort()
  writeFileSync(path, `# Benchmarks\n\nEvery figure is measured beside a baseline of the same run.\n\n${sections.join('\n\n')}\n`)
}
