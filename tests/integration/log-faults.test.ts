import { sql } from 'kysely'
import { afterAll, afterEach, beforeAll, describe, expect, it, vi } from 'vitest'
import { laterPosition } from '../../core/chain/position'
import { openStore } from '../../engine/catalog/stores'
import { Follower } from '../../engine/log/follower'
import { LogRecorder } from '../../engine/log/recorder'
import { notify } from '../../engine/notify'
import { Store } from '../../engine/store/store'
import { ContentWriter } from '../../engine/store/writer'
import { LogStream } from '../../engine/sources/postgres/log/stream'
import { ChunkIndex } from '../../engine/store/index'
import { StructureWatch } from '../../engine/log/structure'
import { searchLog, type FoundChange, type LogQuery } from '../../engine/log/search'
import { LogBench } from '../support/log'

// Whatever happens to the follower, the source or the store: no transaction is lost, none is there twice, and what
// can't be gone on with is a recorded break that a new full ends.

const TICKETS = `
create table public.ticket (id bigint generated always as identity primary key, v text, n int default 0);
insert into ticket (v) select 'old' from generate_series(1, 500);
`

let log: LogBench
const everything: LogQuery = {
  table: 'public.ticket',
  ops: [],
  column: null,
  value: null,
  xid: null,
  from: null,
  to: null,
  after: null,
  limit: 1e9,
}

async function all(query: Partial<LogQuery> = {}): Promise<FoundChange[]> {
  const found: FoundChange[] = []
  for (let after: LogQuery['after'] = null; ;) {
    const page = await searchLog(log.bench.engine, log.vessel.id, { ...everything, ...query, after })
    found.push(...page.changes)
    if (!page.next) return found.reverse()
    after = page.next
  }
}

const until = (holds: () => Promise<boolean>) =>
  vi.waitFor(async () => expect(await holds()).toBe(true), { timeout: 60_000, interval: 100 })
const state = async () => (await log.row()).state

beforeAll(async () => {
  log = await LogBench.open(TICKETS)
  await log.bench.backup(log.vessel)
})
afterAll(() => log?.close())
afterEach(() => vi.restoreAllMocks())

/** Lets the next call fail, before or after it did its work. */
function failOnce<T extends object>(on: T, method: string, when: 'before' | 'after'): void {
  const target = on as Record<string, (...args: unknown[]) => unknown>
  const real = target[method]!
  let failed = false
  vi.spyOn(target, method).mockImplementation(function (this: unknown, ...args: unknown[]) {
    if (failed) return real.apply(this, args)
    failed = true
    const early = new Error(`the worker died before ${method}`)
    if (when === 'before' && method !== 'confirm') return Promise.reject(early)
    if (when === 'before') throw early
    const result = real.apply(this, args)
    const die = () => {
      throw new Error(`the worker died after ${method}`)
    }
    return result instanceof Promise ? result.then(die) : die()
  })
}

describe('a follower that dies', () => {
  const steps: [object, string, 'before' | 'after'][] = [
    [ContentWriter.prototype, 'put', 'before'],
    [ContentWriter.prototype, 'put', 'after'],
    [ContentWriter.prototype, 'flush', 'before'],
    [ContentWriter.prototype, 'flush', 'after'],
    [Store.prototype, 'writeSegment', 'before'],
    [Store.prototype, 'writeSegment', 'after'],
    [ChunkIndex.prototype, 'commit', 'after'],
    [LogStream.prototype, 'confirm', 'before'],
    [LogStream.prototype, 'confirm', 'after'],
  ]
  it('at any step loses no transaction and has none twice', async () => {
    let round = 0
    for (const [on, method, when] of steps) {
      round++
      log.follow()
      failOnce(on, method, when)
      log.bench.sql(`insert into ticket (v) select 'round ${round}' from generate_series(1, 50); update ticket set n = n + 1 where id = 1`)
      await log.flush().catch(() => undefined)
      await log.unfollow()
      vi.restoreAllMocks()
    }
    log.follow()
    const moment = log.moment('public.ticket')
    await log.flush()
    await log.holds(moment)
    const inserted = (await all({ ops: ['insert'] })).map(({ row }) => row![0])
    expect(inserted).toHaveLength(50 * steps.length)
    expect(new Set(inserted).size).toBe(inserted.length)
    expect(await all({ ops: ['update'] })).toHaveLength(steps.length)
    expect(await log.breaks()).toEqual([])
  })
})

describe('a follower that fails while it still looks at what was done before it came', () => {
  it('tells nobody that nothing has changed, and loses no transaction', async () => {
    const { bench } = log
    await log.unfollow()
    let look = () => undefined as void
    const looking = new Promise<void>((resolve) => (look = resolve))
    vi.spyOn(StructureWatch.prototype, 'compare').mockImplementation(() => looking.then(() => false))
    failOnce(Store.prototype, 'writeSegment', 'before')
    log.follow()
    bench.sql(`insert into ticket (v) values ('while it looks')`)
    const moment = log.moment('public.ticket')
    const { position } = await log.row()
    const hurry = () => notify(bench.engine.db, { about: 'flush', vessel: log.vessel.id, member: log.member })
    const failed = vi.mocked(Store.prototype.writeSegment)
    await until(async () => (await hurry(), failed.mock.settledResults.length > 0))
    // The source goes on, and says each time how far it has come.
    for (let i = 0; i < 5; i++) {
      bench.sql('select pg_switch_wal()')
      const goal = bench.sql('select pg_current_wal_lsn()')
      const sent = () => bench.sql(`select count(*) from pg_stat_replication where sent_lsn >= '${goal}'`)
      await until(async () => (await hurry(), sent() !== '0'))
    }
    const row = await log.row()
    expect(row.position).toBe(position)
    expect(laterPosition(row.caught_up_position ?? '0/0', moment.position)).toBe(moment.position)
    look()
    vi.restoreAllMocks()
    await log.flush()
    await log.holds(moment)
    expect(await log.breaks()).toEqual([])
  })
})

describe('a segment that is committed', () => {
  it('stays, though the answer of the catalog was lost, or nobody could be told', async () => {
    const { bench } = log
    const { db } = bench.engine
    const store = await openStore(bench.engine, { name: 'dry-dock' })
    const lost = new Error('Connection terminated unexpectedly')
    const transaction = db.transaction.bind(db)
    bench.sql(`insert into ticket (v) values ('lost answer')`)
    const before = (await log.segments()).length
    vi.spyOn(db, 'transaction').mockImplementation(() => {
      const builder = transaction()
      const execute = builder.execute.bind(builder)
      builder.execute = async (work) => {
        const result = await execute(work)
        // What others ask of the catalog meanwhile is answered.
        if ((await log.segments()).length === before) return result
        vi.mocked(db.transaction).mockRestore()
        throw lost
      }
      return builder
    })
    const moment = log.moment('public.ticket')
    await log.flush().catch(() => undefined)
    await log.unfollow()
    vi.restoreAllMocks()
    const kept = new Set<string>()
    for (const { path } of await store.backend.list('segments')) kept.add(path.replace(/^.*\/|\.[^.]*$/g, ''))
    expect((await log.segments()).filter(({ id }) => !kept.has(id))).toEqual([])
    log.follow()
    await log.flush()
    await log.holds(moment)
  })
})

describe('a segment that can’t be stored', () => {
  it('takes those that wait behind it along, and leaves nothing of them', async () => {
    const { bench } = log
    await log.unfollow()
    let fail = () => undefined as void
    const failing = new Promise<never>((_, reject) => (fail = () => reject(new Error('the disk is gone'))))
    failing.catch(() => undefined)
    const discarded = vi.spyOn(ContentWriter.prototype, 'discard')
    const closing = vi.spyOn(LogRecorder.prototype, 'finish')
    vi.spyOn(Store.prototype, 'writeSegment').mockImplementationOnce(() => failing)
    log.follow()
    const hurry = () => notify(bench.engine.db, { about: 'flush', vessel: log.vessel.id, member: log.member })
    for (const segment of [1, 2]) {
      bench.sql(`insert into ticket (v) values ('behind ${segment}')`)
      await until(async () => (await hurry(), closing.mock.calls.length >= segment))
    }
    fail()
    await until(async () => discarded.mock.calls.length >= 2)
    await log.unfollow()
    // And the one that was being filled.
    expect(discarded.mock.calls.length).toBe(closing.mock.calls.length + 1)
    vi.restoreAllMocks()
    log.follow()
    const moment = log.moment('public.ticket')
    await log.flush()
    await log.holds(moment)
  })
})

describe('the catalog of a follower', () => {
  it('tells a worker that comes too late that another one goes on, and not that somebody else moved the slot', async () => {
    const { engine } = log.bench
    const stale = await log.row()
    log.bench.sql(`insert into ticket (v) values ('by the first one')`)
    await log.flush()
    await log.unfollow()
    await expect(Follower.follow(engine, log.vessel, stale, new AbortController().signal, () => undefined)).rejects.toMatchObject({
      code: 'log_taken',
    })
    expect(await log.breaks()).toEqual([])
    log.follow()
  })

  it('never falls behind what the source was told, however late it is written', async () => {
    const { bench } = log
    const { db } = bench.engine
    // The first word that nothing has changed waits at the catalog, while a later one overtakes it.
    await sql`create sequence word;
      create function held() returns trigger language plpgsql as $$ begin
        if nextval('word') = 1 then perform pg_advisory_xact_lock_shared(4711); end if; return null; end $$;
      create table fell (behind text);
      create function falls() returns trigger language plpgsql as $$ begin
        insert into fell values (new.caught_up_position); return null; end $$;
      create trigger falls after update of caught_up_position on follower for each row
        when (new.caught_up_position::pg_lsn < old.caught_up_position::pg_lsn) execute function falls()`.execute(db)
    const confirmed = () => bench.sql(`select confirmed_flush_lsn from pg_replication_slots where database = current_database()`)
    const waits = async () => {
      const { rows } = await sql`select 1 from pg_locks where locktype = 'advisory' and objid = 4711 and not granted`.execute(db)
      return rows.length > 0
    }
    const hurry = () => notify(db, { about: 'flush', vessel: log.vessel.id, member: log.member })
    try {
      await db.connection().execute(async (holder) => {
        await sql`select pg_advisory_lock(4711)`.execute(holder)
        await sql`create trigger held before update of caught_up_position on follower execute function held()`.execute(db)
        bench.sql('select pg_switch_wal()')
        await hurry()
        await until(waits)
        const before = confirmed()
        bench.sql('select pg_switch_wal()')
        await until(async () => (await hurry(), confirmed() !== before))
        await sql`select pg_advisory_unlock(4711)`.execute(holder)
      })
      await log.unfollow()
      expect((await sql`select behind from fell`.execute(db)).rows).toEqual([])
    } finally {
      await log.unfollow()
      await sql`drop function held cascade; drop function falls cascade; drop table fell; drop sequence word`.execute(db)
    }
    log.follow()
    await log.flush()
    expect(await log.breaks()).toEqual([])
  })
})

describe('transactions', () => {
  it('keep their order, whatever their length: a million rows in bounded memory', async () => {
    const before = process.memoryUsage().rss
    let most = 0
    const timer = setInterval(() => (most = Math.max(most, process.memoryUsage().rss)), 50)
    log.bench.sql(`insert into ticket (v) select 'million' from generate_series(1, 1000000)`)
    await log.flush()
    clearInterval(timer)
    expect((most - before) / 1e6).toBeLessThan(350)
    const { heavy } = await import('../../engine/catalog/trace').then(async ({ heavyOf }) => ({
      heavy: await heavyOf(log.bench.engine, log.vessel.id, new Date(0), new Date(8e15 / 1000), 1),
    }))
    expect(heavy[0]).toMatchObject({ rows: 1_000_000, tables: [{ name: 'public.ticket', tally: [1_000_000, 0, 0, 0] }] })
    log.bench.sql(`delete from ticket where v = 'million'`)
    await log.flush()
  })

  it('that are open across segments belong to the one in which they end', async () => {
    const pg = await import('pg')
    const client = new pg.default.Client({ connectionString: log.bench.server.url(log.bench.database) })
    await client.connect()
    await client.query('begin')
    await client.query(`insert into ticket (v) values ('long')`)
    log.bench.sql(`insert into ticket (v) values ('short')`)
    const between = log.moment('public.ticket')
    await log.flush()
    await log.holds(between)
    await client.query('commit')
    await client.end()
    const after = log.moment('public.ticket')
    await log.flush()
    await log.holds(after)
    expect((await all({ column: 'v', value: 'long' })).map(({ op }) => op)).toEqual(['insert'])
  })

  it('of which there are many small ones all come', async () => {
    const from = Date.now() * 1000
    for (let i = 0; i < 40; i++)
      log.bench.sql(Array.from({ length: 25 }, (_, j) => `insert into ticket (v) values ('small ${i} ${j}');`).join(' commit; '))
    const moment = log.moment('public.ticket')
    await log.flush()
    await log.holds(moment)
    expect(await all({ from })).toHaveLength(1000)
  })
})

describe('a hole in the log', () => {
  it('is recorded when the slot is dropped, and a new full begins a new log by itself', async () => {
    const { slot } = await log.row()
    await log.unfollow()
    await until(async () => log.bench.sql(`select active from pg_replication_slots where slot_name = '${slot}'`) === 'f')
    log.bench.server.psql('postgres', `select pg_drop_replication_slot('${slot}')`)
    const lost = log.moment()
    log.bench.sql(`insert into ticket (v) values ('unseen')`)
    await log.bench.engine.work({ alone: false, logRetryMs: 1000 })
    await until(async () => (await log.breaks()).length > 0 && (await state()) === 'following')
    const [broken] = await log.breaks()
    expect(broken).toMatchObject({ kind: 'slot lost', reason: expect.stringContaining('somebody dropped it') })
    await until(async () => (await log.breaks())[0]!.to_at !== null)
    log.bench.sql(`insert into ticket (v) values ('seen again')`)
    const moment = log.moment('public.ticket')
    await until(
      async () =>
        (
          await log.bench.engine.db
            .selectFrom('run')
            .select('id')
            .where('started_by', '=', 'the log')
            .where('state', 'in', ['done', 'warned'])
            .execute()
        ).length > 0,
    )
    await log.flush()
    await log.holds(moment)
    const inside = log.ref({
      position: `${lost.position.split('/')[0]}/${(Number.parseInt(lost.position.split('/')[1]!, 16) + 64).toString(16)}`,
    })
    await expect(log.rowsAt(inside, 'public.ticket')).rejects.toThrow('No unbroken chain')
  })

  it('is preferred to a source whose disk fills: at the limit the slot is given up', async () => {
    const { engine } = log.bench
    const { saveDefinition } = await import('../../engine/catalog/vessels')
    await saveDefinition(engine, log.vessel.slug, 1, {
      ...log.vessel.definition,
      log: { ...log.vessel.definition.log!, keepAtMost: 16 * 1024 * 1024 },
    })
    vi.spyOn(Store.prototype, 'writeSegment').mockRejectedValue(Object.assign(new Error('no space'), { code: 'ENOSPC' }))
    log.bench.sql(`insert into ticket (v) select repeat(md5(g::text), 20) from generate_series(1, 40000) g`)
    await until(async () => (await log.breaks()).some(({ kind }) => kind === 'limit'))
    vi.restoreAllMocks()
    const broken = (await log.breaks()).find(({ kind }) => kind === 'limit')!
    expect(broken.reason).toContain('its slot was given up')
    await until(async () => (await state()) === 'following' && (await log.breaks()).every(({ to_at: to }) => to !== null))
    const moment = log.moment('public.ticket')
    await log.flush()
    await until(
      async () => (await log.rowsAt(log.ref(moment), 'public.ticket').catch(() => [])).length === moment.tables['public.ticket']!.length,
    )
  })
})
