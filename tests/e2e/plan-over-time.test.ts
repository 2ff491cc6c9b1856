import { mkdtempSync } from 'node:fs'
import { join } from 'node:path'
import { afterAll, afterEach, beforeAll, describe, expect, inject, it } from 'vitest'
import { addRun } from '../../engine/catalog/runs'
import { vesselBySlug } from '../../engine/catalog/vessels'
import { Engine } from '../../engine/engine'
import { Scheduler } from '../../engine/jobs/scheduler'
import { perform } from '../../engine/runs/runner'
import { Application } from '../support/application'
import { Person, ROW } from '../support/browser'
import { testServer } from '../support/engine'
import { takes } from '../support/right-requests'

// A plan goes over two cycles and the end of summer time while somebody looks on: the clock of whoever works is moved from
// night to night, and the real scheduler, backups and prunes do the rest.

const DATABASE = 'nights_data'
const CATALOG = 'nights_catalog'
const server = testServer()
let application: Application
let person: Person
let engine: Engine
let scheduler: Scheduler
let aheadMs = 0

beforeAll(async () => {
  const folder = mkdtempSync(join(inject('folder'), 'nights-'))
  server.psql('postgres', `create database ${CATALOG}; create database ${DATABASE}`)
  server.psql(DATABASE, `create table leg (id int primary key, v text); insert into leg select g, '' from generate_series(1, 2000) g`)
  // Nobody works but the engine of this test.
  application = await Application.start(folder, server.url(CATALOG), 'off')
  await application.connects(folder)
  const clock = { now: () => new Date(Date.now() + aheadMs), ofSource: (at: Date) => new Date(at.getTime() + aheadMs) }
  const masterKeyFile = join(folder, 'master.key')
  engine = await Engine.start({ catalog: server.url(CATALOG), root: process.cwd(), masterKeyFile, clock })
  scheduler = new Scheduler(engine)
  person = await Person.at(application.url)
})
afterEach(() => expect(person.complaints).toEqual([]))
afterAll(async () => {
  await person?.leaves()
  await engine?.close()
  await application?.stop()
})

/** Moves the clock to a time; what is due then is done. */
async function letGoTo(time: string): Promise<void> {
  aheadMs = Date.parse(time) - Date.now()
  server.psql(DATABASE, `update leg set v = md5(v || '${time}') where id % 7 = 0`)
  await scheduler.look()
  const waiting = await engine.db.selectFrom('run').select('id').where('state', '=', 'waiting').orderBy('created_at').execute()
  for (const { id } of waiting) await perform(engine, id)
}
/** Shortly after the nightly time, two o'clock in Berlin. */
const nightOf = (month: number, day: number) => {
  const isSummer = month < 10 || (month === 10 && day <= 25)
  return `2026-${String(month).padStart(2, '0')}-${String(day).padStart(2, '0')}T${isSummer ? '00' : '01'}:01:00Z`
}
const listed = () => person.texts('section[aria-label="Points"] [data-row]')
/** Opens the lifeline over all of it, with all points listed. */
async function looks(): Promise<void> {
  await person.opens(LIFE)
  await person.page.waitForSelector('section[aria-label="Points"] [data-row]')
  if (await person.page.$(OLDER)) await person.clicks(OLDER)
}
const OLDER = 'section[aria-label="Points"] > button'
const LIFE = '/vessels/nights?from=2026-10-16T00:00:00Z&to=2026-11-06T00:00:00Z'
async function enters(when: string): Promise<void> {
  await person.clicks(`section[aria-label="Points"] [data-row] button::-p-text(${when})`)
  await person.page.waitForSelector('section[aria-label="Points"] [data-row] button[aria-current]')
}
async function prune(): Promise<void> {
  const vessel = await vesselBySlug(engine, 'nights')
  const id = await addRun(engine, { kind: 'prune', vessel, startedBy: 'a test', params: { store: 'dry-dock' } })
  await perform(engine, id)
  expect((await engine.db.selectFrom('run').select('state').where('id', '=', id).executeTakeFirstOrThrow()).state).toBe('done')
}

describe('a plan over time', () => {
  it('begins with a full by itself, soon after it was saved', async () => {
    const line = {
      id: 'a',
      name: 'nightly',
      times: { kind: 'days', at: ['02:00'], on: { of: 'every day' } },
      makes: { kind: 'cycle', points: 7, first: 'full', rest: 'differential' },
    }
    const retention = {
      rules: [{ kind: 'last', points: 8 }],
      atLeast: 1,
      logHours: 0,
      byHandDays: null,
      gone: { automaticDays: 90, byHandDays: 365 },
    }
    const schedule = { zone: 'Europe/Berlin', from: '2026-10-17T00:00:00Z', lines: [line], meanwhile: 'wait' }
    await application.asks('POST', '/api/vessels', {
      name: 'Nights',
      definition: { ...takes('database', `db/${DATABASE}`), schedule, retention },
    })
    // It was saved then, by the clock of this test.
    await engine.db
      .updateTable('vessel_version')
      .set({ created_at: new Date('2026-10-17T10:00:00Z') })
      .execute()
    await letGoTo('2026-10-17T10:00:20Z')
    await person.opens('/vessels/nights/runs')
    await person.sees('the plan: first full')
  })

  it('makes its two cycles, each night once, at two o’clock before and after the clock is put back', async () => {
    for (let day = 18; day <= 24; day++) await letGoTo(nightOf(10, day))
    await looks()
    expect((await listed()).slice(0, 2)).toEqual([expect.stringContaining('24 Oct 00:01'), expect.stringContaining('23 Oct 00:01')])
    await enters('20 Oct 00:01')
    await person.sees('3 of 7, differential, nightly.')
    await person.clicks('[data-pin]')
    await person.writes('[name=reason]', 'before the fares changed')
    await person.clicks('[role=dialog] [data-yes]')
    await person.sees('pinned: before the fares changed')
    for (let day = 25; day <= 31; day++) {
      await letGoTo(nightOf(10, day))
      // The hour that comes twice brings nothing more.
      if (day === 25) await letGoTo('2026-10-25T01:30:00Z')
    }
    const due = await engine.db.selectFrom('due').select(['due_at', 'outcome']).where('line', '=', 'a').orderBy('due_at').execute()
    expect(due.map(({ outcome }) => outcome)).toEqual(Array(14).fill('run'))
    expect(due.slice(6, 9).map(({ due_at: at }) => at.toISOString())).toEqual([
      '2026-10-24T00:00:00.000Z',
      '2026-10-25T00:00:00.000Z',
      '2026-10-26T01:00:00.000Z',
    ])
    await person.opens('/vessels/nights/runs')
    await person.sees('nightly, 7 of 7')
    const rows = await person.texts(ROW)
    for (const place of [1, 2, 7]) expect(rows.filter((row) => row.includes(`nightly, ${place} of 7`))).toHaveLength(2)
  })

  it('lets points go by its rules, and keeps what is pinned and what those need that stay', async () => {
    await looks()
    expect(await listed()).toHaveLength(15)
    await prune()
    await person.page.waitForFunction(() => document.querySelectorAll('section[aria-label="Points"] [data-row]').length === 10)
    // The last eight, the full that the oldest of them builds on with the pinned one, and the pinned one.
    const days = (await listed()).map((row) => Number(/^(\d+) Oct/.exec(row)![1]))
    expect(days).toEqual([31, 30, 29, 28, 27, 26, 25, 24, 20, 18])
    expect((await person.page.$$('[data-hollow=gone]')).length).toBeGreaterThan(0)
  })

  it('loses the point that somebody deletes, and no other', async () => {
    await enters('27 Oct 01:01')
    await person.clicks('[data-delete]')
    await person.reads('[data-going]', /no other point builds on it/)
    await person.writes('[name=reason]', 'it was of a trial')
    await person.clicks('[data-delete-it]')
    await person.page.waitForFunction(() => document.querySelectorAll('section[aria-label="Points"] [data-row]').length === 9)
  })

  it('rests while it is paused, goes on when it is resumed, and what it keeps comes back', async () => {
    await person.clicks('[data-pause]')
    await person.writes('[role=dialog] input[name=reason]', 'the server moves')
    await person.clicks('[role=dialog] button[type=submit]')
    await person.sees('the server moves.')
    for (const day of [1, 2]) await letGoTo(nightOf(11, day))
    await looks()
    expect((await listed())[0]).toContain('31 Oct')
    await person.clicks('[data-resume]')
    await person.page.waitForSelector('[data-pause]')
    await letGoTo(nightOf(11, 3))
    await looks()
    expect((await listed())[0]).toContain('3 Nov 01:01')
    await enters('3 Nov 01:01')
    await person.sees('1 of 7, full, nightly.')
    const days = await person.page.evaluate(async () =>
      (await fetch('/api/runs/days?zone=Europe/Berlin&since=2026-10-31T23:00:00Z&until=2026-11-04T00:00:00Z&vessel=nights')).json(),
    )
    expect(days).toMatchObject([
      { day: '2026-11-01', missed: 1 },
      { day: '2026-11-02', missed: 1 },
      { day: '2026-11-03', done: 1 },
    ])

    const pinned = await engine.db.selectFrom('point').select('id').where('pin', 'is not', null).executeTakeFirstOrThrow()
    const then = server.psql(DATABASE, 'select count(*) from leg')
    server.psql(DATABASE, 'truncate leg')
    const wish = { picks: [`db/${DATABASE}/public/leg`], into: { mode: 'original' }, collide: 'replace' }
    const restore = await application.asks<{ id: string }>('POST', `/api/points/${pinned.id}/restore`, {
      wish,
      reason: 'a test',
      rehearsal: false,
    })
    await perform(engine, restore.id)
    expect(server.psql(DATABASE, 'select count(*) from leg')).toBe(then)
  })
})
