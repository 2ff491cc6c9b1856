import { countInWords } from '../core/time/words'
import { comparePoints } from '../engine/compare/table'
import { rowPage, type RowQuery } from '../engine/look/rows'
import { openPoint } from '../engine/points/open'
import { Bench, psql, report, server, timed } from './support'

// Looking into points: comparing two, finding a row, browsing.

const COMPARED = Number(process.env.COMPARED_ROWS ?? 5_000_000)
const FOUND = Number(process.env.FOUND_ROWS ?? 10_000_000)
const COMPARED_PATH = 'db/bench/public/compared'
const FOUND_PATH = 'db/bench/public/found'

function makeData(): void {
  const columns = `id bigint primary key, berth text not null, fare numeric(8, 2) not null, at timestamptz not null`
  for (const [table, rows] of [
    ['compared', COMPARED],
    ['found', FOUND],
  ]) {
    server.psql(
      'bench',
      `create table ${table} (${columns});
      insert into ${table} select g, 'A-' || g % 140, (g % 20000) / 100.0, timestamptz '2026-01-01' + g * interval '3 seconds' from generate_series(1, ${rows}) g;
      vacuum analyze ${table};`,
    )
  }
}

async function compare(bench: Bench, earlier: string, now: string, what: string): Promise<{ share: number; seconds: number }> {
  let share = 0
  const seconds = await timed(async () => {
    const { rows, before: size, read } = await comparePoints(bench.engine, earlier, now, COMPARED_PATH, 400)
    if (rows!.changed !== COMPARED / 100) throw new Error(`${rows!.changed} rows differ`)
    share = read / size.bytes
  })
  console.log(`${what}: ${(share * 100).toFixed(1)} % of its bytes read, ${seconds.toFixed(2)} s`)
  return { share, seconds }
}

async function comparing(bench: Bench): Promise<string> {
  const raw = await timed(() => psql('bench', 'copy compared to stdout'))
  const first = (await bench.run('backup')).outcome.point
  const from = COMPARED / 2
  server.psql('bench', `update compared set fare = fare + 1 where id > ${from} and id <= ${from + COMPARED / 100}`)
  const second = (await bench.run('backup')).outcome.point
  server.psql('bench', `update compared set fare = fare + 1 where id % 100 = 7`)
  const third = (await bench.run('backup')).outcome.point
  // Once for the manifests, which browsing has read before anybody compares.
  for (const point of [first, second, third]) await openPoint(bench.engine, point)
  const near = await compare(bench, first, second, 'one stretch of 1 % changed')
  bench.tell(
    `Two points of ${countInWords(COMPARED)} rows, 1 % in a stretch changed: bytes read, of the table’s`,
    near.share * 100,
    10,
    '%',
    true,
  )
  bench.tell('The same: seconds to all counts and the first differences', near.seconds, 2, 's', true)
  const far = await compare(bench, second, third, '1 % all over changed, so that every chunk differs')
  bench.tell('1 % of rows all over the table changed: time against raw COPY of the table', far.seconds / raw, 10, '×', true)
  return third
}

async function browsing(bench: Bench, point: string): Promise<void> {
  const ask = (query: Partial<RowQuery>) =>
    rowPage(bench.engine, point, { path: FOUND_PATH, order: 'stored', offset: 0, limit: 100, filter: [], after: null, ...query })
  const spots = Array.from({ length: 60 }, (_, i) => Math.floor((((i * 7919) % 6007) / 6007) * (FOUND - 100)))
  const find = async (id: number) => {
    const { rows } = await ask({ filter: [{ column: 'id', op: '=', value: String(id) }] })
    if (rows.length !== 1 || rows[0]!.fields[0] !== String(id)) throw new Error(`row ${id} was not found`)
  }
  const times: Record<string, number[]> = { find: [], stored: [], key: [] }
  for (const spot of spots) times.find!.push(await timed(() => find(spot + 1)))
  for (const order of ['stored', 'key'] as const) {
    for (const spot of spots) {
      times[order]!.push(
        await timed(async () => {
          const { rows } = await ask({ order, offset: spot })
          if (rows[0]!.fields[0] !== String(spot + 1)) throw new Error(`the page at ${spot} begins with ${rows[0]!.fields[0]}`)
        }),
      )
    }
  }
  const worst = (of: number[]) => Math.max(...of) * 1000
  const middle = (of: number[]) => [...of].sort((a, b) => a - b)[of.length >> 1]! * 1000
  for (const [name, of] of Object.entries(times))
    console.log(`${name}: ${middle(of).toFixed(0)} ms in the middle, ${worst(of).toFixed(0)} ms at worst`)
  const cold = 'each at another place'
  bench.tell(`One row by key among ${countInWords(FOUND)}, the slowest of ${spots.length} (${cold})`, worst(times.find!), 300, 'ms', true)
  bench.tell(`A page of 100 rows as they are stored, the slowest of ${spots.length} (${cold})`, worst(times.stored!), 200, 'ms', true)
  bench.tell(`A page of 100 rows by key, the slowest of ${spots.length} (${cold})`, worst(times.key!), 200, 'ms', true)
}

export async function looking(): Promise<void> {
  console.log(`${countInWords(COMPARED)} rows to compare, ${countInWords(FOUND)} to look through`)
  await Bench.with(2, makeData, async (bench) => {
    await browsing(bench, await comparing(bench))
    report(
      'Looking inside',
      `a table of ${countInWords(COMPARED)} rows to compare and one of ${countInWords(FOUND)} to look through`,
      bench.figures,
    )
  })
}
