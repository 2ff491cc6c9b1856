import pg from 'pg'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { refAtTime } from '../../core/chain/moment-ref'
import { BREADTH, differences, dropWhole, dumpOf } from '../support/breadth'
import { CHURN } from '../support/churn'
import { LogBench } from '../support/log'

// A database of everything under a followed log, changed at three paces. Each moment comes back as it was, or what is
// not is told: the oracle is a copy that goes through the same changes, and that nobody follows.

const PACES = [20, 300, 3000]
/** After which steps a copy is taken of what the others are compared with; each pace looks at others of them. */
const MOMENTS = 12
const looked = Array.from({ length: MOMENTS }, (_, i) => Math.round(((i + 1) * CHURN.length) / MOMENTS) - 1)

interface Moment {
  position: string
  micros: number
}
interface Followed {
  log: LogBench
  /** Where the log stood after each step. */
  moments: Promise<Moment[]>
}

const followed: Followed[] = []
const copies = new Map<number, Record<'structure' | 'rows', string[]>>()
let oracle: string

async function client(log: LogBench): Promise<pg.Client> {
  const opened = new pg.Client({ connectionString: log.bench.server.url(log.bench.database) })
  opened.on('error', () => undefined)
  await opened.connect()
  return opened
}

async function churn(log: LogBench, paceMs: number): Promise<Moment[]> {
  const session = await client(log)
  const moments: Moment[] = []
  for (const step of CHURN) {
    await session.query(step)
    const { rows } = await session.query<{ position: string; micros: string }>(
      `select pg_current_wal_insert_lsn()::text as position, (extract(epoch from clock_timestamp()) * 1000000)::bigint::text as micros`,
    )
    moments.push({ position: rows[0]!.position, micros: Number(rows[0]!.micros) })
    await new Promise((resolve) => setTimeout(resolve, paceMs))
  }
  await session.end()
  return moments
}

beforeAll(async () => {
  const logs: LogBench[] = []
  for (const _ of PACES) logs.push(await LogBench.open(`${BREADTH}; drop subscription inward;`, { structure: 'trigger' }))
  const [first] = logs
  oracle = `${first!.bench.database}_oracle`
  first!.bench.server.psql('postgres', `create database ${oracle} template ${first!.bench.database}`)
  // Before anything is followed: the copy is read by processes that are waited for.
  for (const [i, step] of CHURN.entries()) {
    first!.bench.server.psql(oracle, `set client_min_messages = error; ${step}`)
    if (looked.includes(i)) copies.set(i, dumpOf(oracle))
  }
  for (const [i, log] of logs.entries()) {
    await log.bench.backup(log.vessel)
    log.follow(60_000)
    await log.flush()
    const moments = churn(log, PACES[i]!)
    // A change that fails is told by the test that waits for it.
    moments.catch(() => undefined)
    followed.push({ log, moments })
  }
}, 600_000)
afterAll(async () => {
  for (const { log } of followed) await log.close()
})

/** Names of the things of which a receipt says something beside that they are back. */
const toldOf = (
  receipts: { path: string; outcome: string; reason: string | null; equal: boolean | null; left_parts: unknown[] }[],
): string[] =>
  receipts
    .filter(
      ({ outcome, reason, equal, left_parts: left }) =>
        outcome === 'failed' || (outcome === 'left' && !equal) || reason !== null || left.length > 0,
    )
    // Sequences are told together, and parts of a group that could not be put in place with one of its tables.
    .flatMap(({ path, reason, left_parts: left }) => [
      path.split('/').at(-1)!.replace(/\(.*$/s, ''),
      ...(path.endsWith('/sequences') ? ((reason ?? '').match(/[\w.]+_seq\b/g) ?? []) : []),
      ...(left as { what: string }[]).flatMap(({ what }) => what.split(/[^\w]+/).slice(-1)),
    ])
    .filter((name) => name.length > 2)

describe.each(PACES.map((pace, i) => [pace, i] as const))('changes with %s ms between them', (pace, at) => {
  it.each(looked.filter((_, i) => i % PACES.length === at))(
    'come back as of the moment after step %s, or what does not is told',
    async (step) => {
      const { log, moments } = followed[at]!
      const moment = (await moments)[step]!
      await log.flush()
      const ref = pace === 3000 ? refAtTime(log.vessel.slug, moment.micros) : log.ref(moment)
      const database = `${log.bench.database}_${step}`
      const { run, receipts } = await log.bench.restore(log.vessel, ref, { into: { mode: 'elsewhere', source: 'db', database } })
      expect(run.error).toBeNull()
      const [now, before] = [dumpOf(database), copies.get(step)!]
      const told = toldOf(receipts)
      // What belongs to the database as a whole did not come along into the copy.
      const isApart = (line: string) =>
        /THE DATABASE|set_config/.test(line) || !/^[-+] [A-Z]+ [A-Z]/.test(line) || /^[-+] NOTIFY /.test(line)
      const changes = [...differences(now.structure, before.structure), ...differences(now.rows, before.rows)].filter(
        (line) => !isApart(line),
      )
      // Parts that are named apart from their table are told with it where it did not come back.
      const isPart = (line: string) =>
        receipts.some(({ outcome }) => outcome === 'failed') && /^[-+] (ALTER STATISTICS|COMMENT ON (INDEX|STATISTICS)) /.test(line)
      const silent = changes.filter((line) => !isPart(line) && !told.some((name) => line.includes(name)))
      expect([step, CHURN[step], silent]).toEqual([step, CHURN[step], []])
      dropWhole(database)
    },
    300_000,
  )
})
