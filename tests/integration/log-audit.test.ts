import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'
import { runDetail } from '../../engine/catalog/run-views'
import { LogBench } from '../support/log'

// What the log leads to is compared with the source itself, at a position on which both lie exactly.

let log: LogBench
beforeAll(async () => {
  log = await LogBench.open(
    `create table sound (id int primary key, v text); insert into sound select g, 'v' || g from generate_series(1, 3000) g;
     create table tampered (id int primary key, v text); insert into tampered select g, 'v' || g from generate_series(1, 3000) g; create table keyless (x int)`,
  )
  await log.bench.backup(log.vessel)
  await log.bench.engine.work({ alone: false, logRetryMs: 300 })
  await log.flush()
})
afterAll(() => log?.close())

const audits = () =>
  log.bench.engine.db
    .selectFrom('log_audit')
    .select(['name', 'equal', 'expected', 'found', 'position'])
    .orderBy('at')
    .orderBy('name')
    .execute()

/** Changes rows without a word in the log, as nothing should be able to. */
const tamper = (sql: string) =>
  log.bench.sql(`begin; alter event trigger unbroken_vessel_command disable; alter event trigger unbroken_vessel_drop disable;
    do $$ declare p record; begin for p in select pubname from pg_publication where pubname like 'unbroken%' loop
      execute format('alter publication %I drop table tampered', p.pubname); end loop; end $$;
    ${sql};
    do $$ declare p record; begin for p in select pubname from pg_publication where pubname like 'unbroken%' loop
      execute format('alter publication %I add table tampered', p.pubname); end loop; end $$;
    alter event trigger unbroken_vessel_command enable always; alter event trigger unbroken_vessel_drop enable always; commit`)

/** What an audit found is read whole by itself, and known again from there on. */
const mended = () =>
  vi.waitFor(async () => expect((await log.breaks()).filter(({ kind, to_at: to }) => kind === 'audit' && to === null)).toEqual([]), {
    timeout: 60_000,
    interval: 200,
  })

describe('an audit', () => {
  it('finds each followed table as the log leads to it, while the source goes on changing', async () => {
    log.bench.sql(`update sound set v = 'x' where id < 500; delete from tampered where id > 2900; insert into keyless values (1)`)
    const writing = setInterval(() => log.bench.sql(`update sound set v = v || '.' where id = ${1 + Math.floor(Math.random() * 3000)}`), 50)
    try {
      const run = await log.bench.run('audit', log.vessel)
      expect(run).toMatchObject({ state: 'done', error: null, outcome: { audited: 2, differing: 0 } })
    } finally {
      clearInterval(writing)
    }
    expect((await audits()).map(({ name, equal }) => [name, equal])).toEqual([
      ['public.sound', true],
      ['public.tampered', true],
    ])
  })

  it('makes what differs a hole from the last position that agreed, with both fingerprints, until it was read whole', async () => {
    const agreed = log.moment('public.tampered')
    await log.flush()
    tamper(`update tampered set v = 'tampered' where id = 7`)
    const between = log.moment('public.tampered', 'public.sound')
    log.bench.sql(`update tampered set v = 'later' where id = 8`)
    await log.flush()
    // This is what a log that lost something would give out as exact.
    expect(await log.rowsAt(log.ref(between), 'public.tampered')).not.toEqual(between.tables['public.tampered'])
    const run = await log.bench.run('audit', log.vessel)
    expect(run).toMatchObject({ state: 'warned', outcome: { audited: 2, differing: 1 } })
    const last = (await audits()).at(-1)!
    expect(last).toMatchObject({ name: 'public.tampered', equal: false })
    const [hole] = (await log.breaks()).filter(({ kind }) => kind === 'audit')
    expect(hole!.reason).toContain(last.expected)
    expect(hole!.reason).toContain(last.found)
    await expect(log.rowsAt(log.ref(between), 'public.tampered')).rejects.toThrow('not known')
    await log.holds({ ...between, tables: { 'public.sound': between.tables['public.sound']! } })
    await log.holds(agreed).catch((error: Error) => expect(error.message).toContain('not known'))
    await mended()
    log.bench.sql(`update tampered set v = 'after' where id = 9`)
    const after = log.moment('public.tampered', 'public.sound')
    await log.flush()
    await log.holds(after)
    expect(await log.bench.run('audit', log.vessel)).toMatchObject({ state: 'done', outcome: { differing: 0 } })
  })

  it('comes before a full is computed from the log; where the log leads elsewhere, none is made', async () => {
    const fine = await log.bench.run('backup', log.vessel, { what: 'synthetic' })
    expect(fine).toMatchObject({ state: 'done', error: null })
    tamper(`update tampered set v = 'tampered again' where id = 11`)
    const refused = await log.bench.run('backup', log.vessel, { what: 'synthetic' })
    expect(refused).toMatchObject({ state: 'failed', error: { code: 'audit_differs' } })
    expect((refused.error as { what: string }).what).toContain('public.tampered')
    // Each table that was looked at is a step of its own.
    const { steps } = await runDetail(log.bench.engine, refused.id)
    expect(steps.filter(({ kind }) => kind === 'audit').map(({ title }) => title)).toEqual(['public.sound', 'public.tampered'])
    // It is read whole by itself, and then a full can be computed again.
    await mended()
    expect(await log.bench.run('backup', log.vessel, { what: 'synthetic' })).toMatchObject({ state: 'done', error: null })
    log.bench.sql(`update tampered set v = 'once more' where id = 12`)
    const later = log.moment('public.tampered', 'public.sound')
    await log.flush()
    await log.holds(later)
  })

  it('that agreed last before a full was made leaves no moment behind that full to be given out either', async () => {
    expect(await log.bench.run('audit', log.vessel)).toMatchObject({ state: 'done', outcome: { differing: 0 } })
    await log.bench.backup(log.vessel)
    tamper(`update tampered set v = 'behind the full' where id = 13`)
    const between = log.moment('public.tampered')
    // What is read whole afterwards lies behind this, and not at the moment itself.
    log.bench.sql(`update sound set v = 'on' where id = 1`)
    await log.flush()
    expect(await log.bench.run('audit', log.vessel)).toMatchObject({ state: 'warned', outcome: { differing: 1 } })
    await expect(log.rowsAt(log.ref(between), 'public.tampered')).rejects.toThrow('not known')
    await mended()
  })

  it('of a vessel whose log is not followed says so', async () => {
    const other = await log.bench.vessel('Other')
    expect(await log.bench.run('audit', other)).toMatchObject({ state: 'failed', error: { code: 'no_log' } })
  })
})
