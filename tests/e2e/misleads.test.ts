import { mkdtempSync } from 'node:fs'
import { join } from 'node:path'
import type { HTTPRequest } from 'puppeteer-core'
import { afterAll, afterEach, beforeAll, describe, expect, inject, it, vi } from 'vitest'
import { defaultLog } from '../../core/plan/definition'
import { Application } from '../support/application'
import { Person } from '../support/browser'
import { dropSlots, isFollowed, testServer } from '../support/engine'
import { takes } from '../support/right-requests'

// What could do harm or mislead in a decision: an act without its plan, rows that can't be decided on, counts that are
// not true, times that are guessed, failures that are passed over, and keys that act while something else is meant.

const DATABASE = 'mislead_data'
const server = testServer()
const sql = (text: string) => server.psql(DATABASE, text)
let application: Application
let person: Person

beforeAll(async () => {
  const folder = mkdtempSync(join(inject('folder'), 'misleads-'))
  server.psql('postgres', `create database mislead_catalog; create database ${DATABASE}`)
  sql(`create schema sales; create schema odd;
    create table sales.leg (port text, lane text, fare int, primary key (port, lane));
    insert into sales.leg select 'port ' || g, 'lane', g from generate_series(1, 400) g;
    insert into sales.leg values ('a, b', 'c', 1), ('a', 'b, c', 2);
    create table sales.note (id int primary key, v text); insert into sales.note values (1, 'then');
    do $$ begin for i in 1..100 loop execute format('create table odd.t%s (id int)', i); end loop; end $$`)
  application = await Application.start(folder, server.url('mislead_catalog'))
  await application.connects(folder)
  const rest = takes('schema', `db/${DATABASE}/sales`)
  await application.asks('POST', '/api/vessels', { name: 'Bookings', definition: { ...rest, log: defaultLog(true) } })
  await application.points('bookings')
  await vi.waitFor(() => expect(isFollowed(server, DATABASE)).toBe(true), { timeout: 60_000, interval: 100 })
  person = await Person.at(application.url)
})
afterEach(() => expect(person.complaints).toEqual([]))
afterAll(async () => {
  await person?.leaves()
  await application?.stop()
  dropSlots(server, DATABASE)
})

/** Runs a restore to its end without the interface. */
async function restored(wish: object): Promise<string> {
  const [point] = await application.points('bookings')
  const { agreed } = await application.asks<{ agreed: string }>('POST', `/api/points/${point!.id}/plan`, wish)
  const body = { wish, reason: 'the first time', rehearsal: false, agreed }
  const { id } = await application.asks<{ id: string }>('POST', `/api/points/${point!.id}/restore`, body)
  await vi.waitFor(async () => expect((await application.asks<{ state: string }>('GET', `/api/runs/${id}`)).state).toBe('done'), {
    timeout: 30_000,
    interval: 100,
  })
  return id
}
const NOTE = { picks: [`db/${DATABASE}/sales/note`], into: { mode: 'original' } }
/** Lets requests to an address fail as when the catalog is away, until it is called back. */
async function fails(address: string): Promise<() => Promise<void>> {
  const answer = (request: HTTPRequest) =>
    void (new URL(request.url()).pathname === address
      ? request.respond({
          status: 503,
          contentType: 'application/json',
          body: JSON.stringify({
            data: { code: 'catalog_away', what: 'The catalog does not answer.', touched: 'Nothing.', next: 'Wait.' },
          }),
        })
      : request.continue())
  await person.page.setRequestInterception(true)
  person.page.on('request', answer)
  return async () => {
    person.page.off('request', answer)
    await person.page.setRequestInterception(false)
  }
}
const isDialogOpen = () => person.page.evaluate(() => document.querySelector('[role=dialog]') !== null)

describe('what changes what stands', () => {
  it('is started again on the workbench, with a plan of now and a reason of now', async () => {
    sql(`update sales.note set v = 'changed'`)
    const id = await restored(NOTE)
    sql(`update sales.note set v = 'changed since'`)
    const refused = await application.send('POST', `/api/runs/${id}/again`)
    expect([refused.status, refused.code]).toEqual([409, 'needs_plan'])
    await person.opens(`/runs/${id}`)
    await person.presses('Start it again…')
    await person.arrivesAt(/\/vessels\/bookings\/restore\?.*again=/)
    await person.sees('1 row is restored to note')
    await person.clicks('[data-go]')
    expect(sql('select v from sales.note')).toBe('changed since')
    await person.writes('input[name=reason]', 'the second time')
    await person.clicks('[data-go]')
    await person.sees(/Done: 1 thing restored, proven equal/)
    expect(sql('select v from sales.note')).toBe('then')
  })

  it('is run from a saved restore in the same way, with all that was chosen, and the list leads to the run', async () => {
    const wish = { ...NOTE, into: { mode: 'beside', suffix: '_copy', prefix: '', schema: null, names: {} } }
    await application.asks('POST', '/api/vessels/bookings/restores', { name: 'A copy of the notes', wish, reason: 'for the audit' })
    await person.opens('/vessels/bookings/restores')
    await person.sees('“for the audit”')
    await person.presses('Restore again…')
    await person.page.waitForFunction(() => Array.from(document.querySelectorAll('input')).some(({ value }) => value === 'note_copy'))
    await person.sees('Make note as sales.')
    expect(sql(`select to_regclass('sales.note_copy') is null`)).toBe('t')
    await person.clicks('[data-go]')
    await person.sees(/Done: 1 thing restored, proven equal/)
    expect(sql('select v from sales.note_copy')).toBe('then')
    await person.opens('/vessels/bookings/restores')
    await person.sees(/A copy of the notes .*last run today/)
  })
})

describe('the rows of an undo', () => {
  it('can all be seen, found and decided on, by their real keys', async () => {
    sql('delete from sales.leg where fare <= 300')
    sql(`insert into sales.leg select 'port ' || g, 'lane', -1 from generate_series(101, 220) g;
      insert into sales.leg values ('a, b', 'c', -1), ('a', 'b, c', -1)`)
    type Watch = { losses: { ways: { kind: string; to: string }[] }[] }
    const undo = async () => (await application.asks<Watch>('GET', '/api/watch')).losses[0]!.ways.find(({ kind }) => kind === 'undo')!.to
    await person.opens(await vi.waitFor(undo, { timeout: 30_000, interval: 200 }))
    await person.sees('180 rows in 1 table will be changed')
    await person.sees('122 rows have been touched since; those you do not decide on stay as they are')
    await person.sees('302 rows')
    // The last one is reached by scrolling.
    await person.page.evaluate(() => {
      const list = document.querySelector('[aria-label="Rows of the transaction"]')!
      list.scrollTop = list.scrollHeight
    })
    await person.page.waitForSelector('[data-index="302"] [data-act]')
    await person.presses('touched since')
    await person.reads('[data-listed]', /^122 rows listed$/)
    await person.clicks('[data-undo-all]')
    await person.sees('302 rows in 1 table will be changed')
    await person.writes('input[name=find]', 'a, b')
    await person.reads('[data-listed]', /^1 row listed$/)
    await person.clicks('[data-leave-all]')
    await person.sees('301 rows in 1 table will be changed')
    await person.writes('input[name=reason]', 'the fares were wanted')
    await person.clicks('[data-undo]')
    await person.arrivesAt(/\/runs\/[0-9a-f-]{36}$/)
    await person.page.waitForFunction(() => /done/.test(document.querySelector('[data-run-state]')?.textContent ?? ''), { timeout: 30_000 })
    expect(sql('select count(*) from sales.leg where fare > 0')).toBe('401')
    expect(sql('select port, lane, fare from sales.leg where fare < 0')).toBe('a, b|c|-1')
  })
})

describe('counts and times', () => {
  it('count all that no rule names', async () => {
    await person.opens('/vessels/bookings/definition')
    await person.reads('[data-left-over]', /^No rule names these ?100 ?db\/mislead_data\/odd: .* and 96 more/)
  })

  it('are read as people write them; what can’t be read is told, and nothing is searched with it', async () => {
    await person.opens('/vessels/bookings/changes?table=sales.leg')
    await person.sees('deleted')
    await person.writes('input[name=from]', '10')
    await person.presses('Search the log')
    await person.sees('Nothing was searched: the limit “10” can’t be read.')
    expect(await person.texts('[data-change]')).toEqual([])
    await person.writes('input[name=from]', '10 minutes ago')
    await person.presses('Search the log')
    await person.sees('deleted')
    await person.reads('[data-understood]', new RegExp(`from .*${new Date().getFullYear()}`))
    await person.opens('/vessels/bookings')
    await person.writes('input[name=moment]', 'yesterday')
    await person.page.keyboard.press('Enter')
    await person.sees('It does not say at which time of the day.')
    await person.writes('input[name=moment]', '1 minute ago')
    await person.page.keyboard.press('Enter')
    await person.page.waitForFunction(() => document.querySelector('#moment-trouble') === null)
    await person.arrivesAt(/at=/)
  })
})

describe('what is not known', () => {
  it('is told of holds, and of any part of a page that can’t be loaded, until it is known', async () => {
    const comesBack = await fails('/api/holds')
    await person.opens('/')
    await person.sees('Whether anything is still held is not known. The catalog does not answer.')
    await person.sees('Not all of this page is of now. One part of it could not be loaded since')
    await comesBack()
    await person.page.waitForFunction(() => !document.querySelector('[data-holds-unknown], [data-stale]'), { timeout: 15_000 })
  })

  it('is an address at which nothing is', async () => {
    await person.opens('/no/such/page')
    await person.sees('Nothing is at this address')
    await person.presses('Go to Watch')
    await person.sees('One vessel.')
  })
})

describe('keys', () => {
  it('act on the page, and never while a list, a menu or a field has them', async () => {
    await person.opens('/vessels/bookings/definition')
    await person.sees('No rule names these')
    await person.page.focus('[data-rule] [role=combobox]')
    await person.page.keyboard.press('b')
    await person.clicks('[data-rule] [role=combobox][aria-label="Kind"]')
    await person.page.waitForSelector('[role=listbox]')
    for (const key of ['b', 'B', '?', 'j'] as const) await person.page.keyboard.press(key)
    expect(await isDialogOpen()).toBe(false)
    expect(await person.page.evaluate(() => document.activeElement?.closest('[role=listbox]') !== null)).toBe(true)
    await person.page.keyboard.press('Escape')
    await person.page.waitForFunction(() => !document.querySelector('[role=listbox]'))
    await person.page.evaluate(() => (document.activeElement as HTMLElement).blur())
    await person.page.keyboard.press('b')
    await person.page.waitForSelector('[role=dialog]')
    await person.page.keyboard.press('Escape')
    await person.page.waitForFunction(() => !document.querySelector('[role=dialog]'))
    await person.page.keyboard.press('?')
    await person.sees('consistent together all members were captured in one hold')
    await person.page.keyboard.press('Escape')
  })
})
