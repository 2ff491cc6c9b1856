import { mkdtempSync } from 'node:fs'
import { join } from 'node:path'
import { afterAll, afterEach, beforeAll, describe, expect, inject, it, vi } from 'vitest'
import { defaultLog } from '../../core/plan/definition'
import { Application } from '../support/application'
import { Person } from '../support/browser'
import { dropSlots, isFollowed, testServer } from '../support/engine'
import { takes } from '../support/right-requests'

// What README's "Try it" says: a table is dropped beside the application; within three seconds it stands on Watch, and two
// clicks later it is back, with every row that was committed before.

const DATABASE = 'loss_data'
const ALL = `select count(*), sum(hashtext(l::text)::bigint) from sales.booking_leg l`
const WITHIN_MS = 3000

const server = testServer()
const sql = (text: string) => server.psql(DATABASE, text)
let application: Application
let person: Person

beforeAll(async () => {
  const folder = mkdtempSync(join(inject('folder'), 'losses-'))
  server.psql('postgres', `create database loss_catalog; create database ${DATABASE}`)
  sql(`create schema sales;
    create table sales.booking_leg (id bigint generated always as identity primary key, port text, fare int);
    create table sales.note (id bigint generated always as identity primary key, leg bigint constraint note_leg references sales.booking_leg, v text);
    create view sales.full_legs as select * from sales.booking_leg where fare > 0;
    insert into sales.booking_leg (port, fare) select 'port ' || g, g from generate_series(1, 5000) g;
    insert into sales.note (leg, v) select g, 'note' from generate_series(1, 100) g`)
  application = await Application.start(folder, server.url('loss_catalog'))
  await application.connects(folder)
  const rest = takes('database', `db/${DATABASE}`)
  // A log begins with a full of its own; the other vessel's point is the younger one.
  const log = { ...defaultLog(true), structure: 'trigger' }
  await application.asks('POST', '/api/vessels', { name: 'Bookings', definition: { ...rest, log } })
  await application.points('bookings')
  await application.asks('POST', '/api/vessels', { name: 'Copies', definition: rest })
  await application.asks('POST', '/api/vessels/copies/runs', { kind: 'backup' })
  await application.points('copies')
  await vi.waitFor(() => expect(isFollowed(server, DATABASE)).toBe(true), { timeout: 60_000, interval: 100 })
  person = await Person.at(application.url)
})
afterEach(() => expect(person.complaints).toEqual([]))
afterAll(async () => {
  await person?.leaves()
  await application?.stop()
  dropSlots(server, DATABASE)
})

describe('a table that somebody drops', () => {
  let before: string

  it('stands on Watch within three seconds, once, with when, who, what went with it, and how many rows', async () => {
    sql(`insert into sales.booking_leg (port, fare) select 'late', 1 from generate_series(1, 77)`)
    before = sql(ALL)
    await person.opens('/')
    await person.sees('Two vessels')
    const began = Date.now()
    sql(`set application_name = 'a slip'; drop table sales.booking_leg cascade`)
    await person.sees(`sales.booking_leg was dropped from db / ${DATABASE}`)
    expect(Date.now() - began).toBeLessThan(WITHIN_MS)
    await person.sees(`sales.booking_leg was dropped from db / ${DATABASE}, with 5,077 rows.`)
    await person.sees('by postgres (a slip)')
    await person.sees('With it went the table constraint note_leg on sales.note, the view sales.full_legs.')
    await person.sees(/Restore from just before it… ?Loses nothing/)
    expect(await person.texts('[data-loss]')).toHaveLength(1)
    await person.presses('2 other ways')
    const ways = await person.texts('[data-loss] [data-way]')
    expect(ways[1]).toMatch(/^Restore from the point of .*, Copies… ?loses what was changed in the .* before the loss$/)
    expect(ways[2]).toMatch(/^Restore from the point of .*, Bookings… ?loses up to 77 changes of the .* before the loss$/)
  })

  it('stands at its vessel, and a restore from an older state says that there is a better one', async () => {
    await person.clicks('[data-loss] [data-way] a::-p-text(Bookings…)')
    await person.sees('This starts from an older state than need be: it loses up to 77 changes')
    await person.sees('5,000 rows are restored')
    await person.presses('Start from just before the loss')
    await person.sees('5,077 rows are restored')
    expect(await person.text()).not.toContain('older state')
    await person.opens('/vessels/bookings')
    await person.sees('sales.booking_leg was dropped')
  })

  it('is back after two clicks, with every row and all that hung on it, proven; and its receipt stays on Watch', async () => {
    await person.opens('/')
    await person.clicks('[data-loss] a::-p-text(Restore from just before it…)')
    await person.sees('5,077 rows are restored to booking_leg')
    await person.clicks('[data-go]')
    await person.sees(/Done: \d+ things restored, proven equal/)
    expect(sql(ALL)).toBe(before)
    expect(sql('select count(*) from sales.full_legs')).toBe('5077')
    expect(sql(`select count(*) from pg_constraint where conname = 'note_leg'`)).toBe('1')
    const line = (await person.texts('[data-receipt]')).find((text) => text.startsWith('sales.booking_leg'))!
    const [earlier, now] = line.match(/[0-9a-f]{32}/g)!
    expect(earlier).toBe(now)
    await person.opens('/')
    await person.sees(/booking_leg.* back\. .*Receipt/)
    expect(await person.texts('[data-loss]')).toEqual([])
    await person.clicks('[data-returned] a')
    await person.sees('proven equal')
  })

  it('is told no more once somebody says that it was meant', async () => {
    await person.opens('/')
    await person.sees('Two vessels')
    sql('create table sales.old_fares as select * from sales.booking_leg')
    sql(`delete from sales.note`)
    await person.sees(`100 rows of sales.note in db / ${DATABASE} were deleted.`)
    await person.presses('It was meant')
    await person.page.waitForFunction(() => !document.querySelector('[data-loss]'))
    expect(sql('select count(*) from sales.note')).toBe('0')
  })
})
