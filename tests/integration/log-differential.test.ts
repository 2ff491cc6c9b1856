import { sql } from 'kysely'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { noRows, openPoint } from '../../engine/points/open'
import { LogBench } from '../support/log'

// What a point that was computed from the log says of the structure, every later moment rests upon. What it leaves out
// is in none of them, unless it is told.

const NEWCOMER = 'create table newcomer (id int primary key); insert into newcomer values (1), (2)'
/** What holds up a run where it plans to read the log; who takes the lock first decides when it goes on. */
const HOLD_UP = sql`
  create function held_up() returns trigger language plpgsql as $$ begin perform pg_advisory_xact_lock(4711); return new; end $$;
  create trigger held_up before insert on run_step for each row when (new.kind = 'log') execute function held_up()`

let log: LogBench
const at = async (ref: string) => (await openPoint(log.bench.engine, ref, noRows)).members[0]!.manifest.databases[0]!
/** A moment of now, once the log is stored up to it. */
const now = async (): Promise<string> => {
  const moment = log.moment()
  await log.flush()
  return log.ref(moment)
}
const isFollowed = async (name: string) => Object.values((await log.row()).tables).some((table) => table.name === name)

async function refuseSnapshots(): Promise<() => void> {
  const { server } = log.bench
  const free = `(select generate_series(1, setting::int - (select count(*)::int from pg_replication_slots)) as n from pg_settings where name = 'max_replication_slots')`
  server.psql('postgres', `select pg_create_physical_replication_slot('filler_' || n) from ${free} f`)
  return () =>
    void server.psql('postgres', `select pg_drop_replication_slot(slot_name) from pg_replication_slots where slot_name ~ '^filler_'`)
}

describe.each(['trigger', 'compare'] as const)('a point that is computed from the log, where a table is new (%s)', (structure) => {
  beforeEach(async () => {
    log = await LogBench.open('create table item (id int primary key); insert into item values (1)', { structure, everySeconds: 60 })
    await log.bench.backup(log.vessel)
    log.follow(60_000)
    await log.flush()
  })
  afterEach(() => log?.close())

  it('holds the table that was noticed after the run had decided what to read', async () => {
    const { bench } = log
    await HOLD_UP.execute(bench.engine.db)
    let backup!: Promise<string>
    await bench.engine.db.connection().execute(async (held) => {
      await sql`select pg_advisory_lock(4711)`.execute(held)
      backup = bench.backup(log.vessel, 'differential')
      await vi.waitFor(
        async () => {
          const { rows } = await sql`select from pg_locks where locktype = 'advisory' and not granted`.execute(held)
          expect(rows).toHaveLength(1)
        },
        { timeout: 30_000, interval: 50 },
      )
      bench.sql(NEWCOMER)
      await vi.waitFor(async () => expect(await isFollowed('newcomer')).toBe(true), { timeout: 30_000, interval: 50 })
      await sql`select pg_advisory_unlock(4711)`.execute(held)
    })
    const point = await backup
    expect((await at(point)).missing).toEqual([])
    const later = await now()
    expect(await log.rowsAt(later, 'public.newcomer')).toEqual(['1', '2'])
    expect((await at(later)).missing).toEqual([])
  })

  it.each(['differential', 'synthetic'])('tells of the table in every later moment, where the %s could not read it', async (what) => {
    const { bench } = log
    bench.sql(NEWCOMER)
    await vi.waitFor(async () => expect(await isFollowed('newcomer')).toBe(true), { timeout: 30_000, interval: 50 })
    await log.flush()
    const path = bench.path('public', 'newcomer')
    // In a log that tells of the structure, what is new is known from its first row on.
    const isKnown = structure === 'trigger'
    const allow = await refuseSnapshots()
    const point = await bench.backup(log.vessel, what).finally(allow)
    const isTold = ({ missing, tables }: Awaited<ReturnType<typeof at>>) => [
      missing.filter((lack) => lack.path === path && !lack.note).length,
      tables.filter((table) => table.path === path).length,
    ]
    const as = isKnown ? [0, 1] : [1, 0]
    expect(isTold(await at(point))).toEqual(as)
    bench.sql('insert into item values (2)')
    expect(isTold(await at(await now()))).toEqual(as)
    await log.unfollow()
    log.follow(60_000)
    bench.sql('insert into item values (3)')
    expect(isTold(await at(await now()))).toEqual(as)
  })
})
