import { mkdtempSync } from 'node:fs'
import { join } from 'node:path'
import { afterAll, afterEach, beforeAll, describe, expect, inject, it, vi } from 'vitest'
import { faultsOf } from '../support/accessibility'
import { Application } from '../support/application'
import { Person } from '../support/browser'
import { testServer } from '../support/engine'
import { takes } from '../support/right-requests'

// A plan is written, its next times are seen, it is saved, and from then on it happens by itself.

const DATABASE = 'plan_data'
const server = testServer()
let application: Application
let person: Person

beforeAll(async () => {
  const folder = mkdtempSync(join(inject('folder'), 'plan-'))
  server.psql('postgres', `create database plan_catalog; create database ${DATABASE}`)
  server.psql(DATABASE, `create table leg (id int primary key, v text); insert into leg select g, 'v' from generate_series(1, 200) g`)
  application = await Application.start(folder, server.url('plan_catalog'))
  await application.connects(folder)
  await application.asks('POST', '/api/vessels', { name: 'Nightly', definition: takes('database', `db/${DATABASE}`) })
  person = await Person.at(application.url)
})
afterEach(() => expect(person.complaints).toEqual([]))
afterAll(async () => {
  await person?.leaves()
  await application?.stop()
})

const coming = () => person.page.$$eval('[data-coming]', (marks) => marks.map((mark) => mark.getAttribute('data-coming')))
const named = () => person.page.$$eval('[data-coming] title', (titles) => titles.map((title) => title.textContent))

describe('a plan', () => {
  it('is written with its zone, a cycle and a window, and shows what it will make', async () => {
    await person.opens('/vessels/nightly/definition')
    await person.clicks('[data-schedule] button[role=switch]')
    await person.sees('the first full begins within moments of saving')
    expect(await coming()).toHaveLength(14)
    await person.writes('input[aria-label="Points of a cycle"]', '3')
    await person.sees(/2 lines?|1 line/)
    await person.page.waitForFunction(() => document.querySelectorAll('[data-coming]').length === 6)
    expect(await coming()).toEqual(['full', 'differential', 'differential', 'full', 'differential', 'differential'])
    expect((await named())[4]).toMatch(/^2 of 3, differential: /)
    // In another zone, its times are told in both.
    await person.clicks('button[aria-label="Time zone of the plan"]')
    await person.page.keyboard.type('Adelaide')
    await person.clicks('[role=option]::-p-text(Australia/Adelaide)')
    await person.sees('there it is')
    expect((await named())[0]).toMatch(/02:00 \+(09|10):30 \(here \d+ \w+ \d{4},? \d\d:\d\d [+−]\d\d:\d\d\)/)
    await person.writes('input[aria-label="Times of the day"]', '25:00')
    await person.page.keyboard.press('Tab')
    await person.sees('“25:00” is no time of the day')
    expect(await person.page.$eval('[data-save-definition]', (button) => (button as HTMLButtonElement).disabled)).toBe(true)
    await person.writes('input[aria-label="Times of the day"]', '02:00, 14:00')
    await person.page.keyboard.press('Tab')
    expect(await faultsOf(person.page)).toEqual([])
    await person.sees('It is backed up by itself from now on: nightly, every day at 02:00 and 14:00.')
  })

  it('begins with a full when it is saved, and says what comes next', async () => {
    await person.clicks('[data-save-definition]')
    await person.sees('This is version 2, as saved.')
    await application.points('nightly')
    await person.opens('/vessels/nightly/runs')
    await person.sees('the plan: first full')
    await person.opens('/vessels/nightly')
    await person.reads('[data-planned]', /^Next: full, .*\+(09|10):30 \(here .*\)\.$/)
  })

  it('is carried out at its times, each with its place', async () => {
    const { definition, version } = await application.asks<{ version: number; definition: { schedule: { lines: object[] } } }>(
      'GET',
      '/api/vessels/nightly',
    )
    const soon = new Date(Date.now() + 3000).toISOString()
    // Without its window, in which each vessel begins at a time of its own.
    const line = { ...definition.schedule.lines[0], window: undefined, times: { kind: 'every', count: 1, unit: 'hours' } }
    const schedule = { ...definition.schedule, from: soon, lines: [line] }
    await application.asks('PUT', '/api/vessels/nightly/definition', { basedOn: version, definition: { ...definition, schedule } })
    await person.opens('/vessels/nightly/runs')
    await person.sees('the plan: nightly, 1 of 3')
    await person.clicks('a::-p-text(Backup)')
    await person.sees(/started by the plan: nightly, 1 of 3/)
    // What is taken out of its point says where that stands, too.
    const [, planned] = await vi.waitFor(async () => {
      const points = await application.points('nightly')
      expect(points.length).toBeGreaterThan(1)
      return points
    })
    const file = await fetch(`${application.url}/api/points/${planned!.id}/export?path=db/${DATABASE}/public/leg&format=csv`)
    expect(file.headers.get('content-disposition')).toMatch(/public\.leg\.20\d{6}T\d{6}Z\.nightly-1-of-3\.csv/)
  })

  it('rests while its vessel is paused, with a reason, and goes on', async () => {
    await person.opens('/vessels/nightly')
    await person.clicks('[data-pause]')
    await person.writes('[role=dialog] input[name=reason]', 'the server moves')
    await person.clicks('[role=dialog] button[type=submit]')
    await person.sees(/Paused for .* by a person.*: the server moves\./)
    await person.opens('/')
    await person.sees(/the server moves/)
    await person.opens('/vessels/nightly')
    await person.clicks('[data-resume]')
    await person.reads('[data-planned]', /^Next: differential, /)
  })

  it('is proposed from what is promised, and becomes what new vessels begin with', async () => {
    await application.asks('POST', '/api/vessels', {
      name: 'Proposed',
      definition: { ...takes('database', `db/${DATABASE}`), promises: { couldLose: 12 * 3_600_000, backWithin: 3_600_000 } },
    })
    await person.opens('/vessels/proposed/definition')
    await person.clicks('[data-propose]')
    await person.reads(
      '[data-why]',
      /A point every 8 hours keeps what could be lost within 12 h\. A full every 7 days, and differentials between/,
    )
    await person.reads('[data-schedule]', /Add a line/)
    expect(await coming()).toHaveLength(42)
    // What it proposes keeps the promises by the plan's own measure.
    expect(await person.text('aside[aria-label=Consequences]')).not.toContain('may pass between two points of the plan')
    await person.clicks('[data-save-definition]')
    await person.sees('This is version 2, as saved.')
    await person.clicks('[data-default-plan]')
    await person.sees('New vessels begin with its plan as it is saved now.')
    await person.opens(`/vessels/new?take=db/${DATABASE}`)
    await person.reads('[data-schedule]', /the first full begins within moments of saving/)
    expect(await person.page.$eval('input[aria-label="Times of the day"]', (field) => (field as HTMLInputElement).value)).toBe(
      '02:00, 10:00, 18:00',
    )
  })
})
