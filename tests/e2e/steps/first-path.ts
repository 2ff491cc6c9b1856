import { join } from 'node:path'
import { existsSync, readdirSync } from 'node:fs'
import type { HTTPRequest } from 'puppeteer-core'
import { afterAll, afterEach, beforeAll, expect, inject, it, vi } from 'vitest'
import { Person, ROW } from '../../support/browser'
import { testServer } from '../../support/engine'

// The way of a person from nothing to a proven return, each step with what they would check.

const LEGS = 'select count(*), sum(hashtext(l::text)::bigint) from sales.booking_leg l'
const LEG_PATH = 'ferry-db/bookings/sales/booking_leg'

/** Told once the vessel, its source and its store are there. */
export function firstPath(): void {
  const server = testServer()
  const sql = (text: string) => server.psql('bookings', text)
  const store = join(inject('folder'), 'dry-dock')
  let person: Person
  beforeAll(async () => {
    person = await Person.at(inject('url'))
  })
  afterEach(() => expect(person.complaints).toEqual([]))
  afterAll(() => person?.leaves())

  it('opens Watch, which says that nothing is protected', async () => {
    await person.opens('/')
    await person.sees('No vessel is defined yet, so nothing is protected.')
  })

  it('connects a source: a wrong password is told, the right one shows each privilege', async () => {
    await person.reads('[data-step=next]', /^1 Connect a source/)
    await person.clicks('[data-step=next] a')
    await person.arrivesAt(/\/sources\?connect=1/)
    // What is missing is told beside its field, before anything is tried.
    await person.presses('Test')
    await person.sees('Give it a name.')
    await person.sees('The address is missing.')
    await person.writes('input[name=name]', 'ferry-db')
    await person.writes('input[name=host]', '127.0.0.1')
    await person.writes('input[name=port]', String(inject('port')))
    await person.writes('input[name=user]', 'postgres')
    await person.writes('input[name=password]', 'not this')
    await person.presses('Test')
    await person.sees('refused the password of the role postgres')
    await person.writes('input[name=password]', inject('password'))
    await person.presses('Test')
    await person.sees('wal_level is logical')
    await person.clicks('[data-save]')
    await person.sees('One source')
    await person.clicks('a::-p-text(bookings)')
    await person.clicks('a::-p-text(sales)')
    await person.clicks('a::-p-text(booking_leg)')
    await person.sees('One crossing of one booking')
    await person.sees(/about 140,000/)
    await person.sees('No vessel.')
  })

  it('makes a store and a vessel whose rules are evaluated as they are written', async () => {
    await person.opens('/')
    await person.reads('[data-step=next]', /^2 Make a store/)
    await person.opens('/vessels/new')
    await person.writes('input[name=vessel-name]', 'Bookings')
    await person.presses('Add a rule')
    await person.writes('[aria-label="Pattern of rule 1"]', 'ferry-db/bookings')
    await person.sees(/booking_leg, .* more/)
    const all = await person.text('[data-selection]')
    await person.presses('Make a store…')
    await person.writes('input[name=store-name]', 'dry-dock')
    await person.writes('input[name=store-path]', 'not/absolute')
    await person.presses('Check the folder')
    await person.sees('is not an absolute path')
    await person.writes('input[name=store-path]', store)
    await person.presses('Check the folder')
    await person.sees('It can be written')
    await person.presses('Make the store')
    await person.sees('This is its key.')
    expect((await person.text('[data-store-key]')).trim()).toMatch(/^[0-9a-f]{64}$/)
    await person.presses('I have saved the key')
    await person.presses('Add a rule')
    await person.chooses('[data-rule]:nth-of-type(2) [aria-label="Take or leave"]', 'Leave')
    await person.chooses('[data-rule]:nth-of-type(2) [aria-label="Kind"]', 'table or thing')
    await person.writes('[aria-label="Pattern of rule 2"]', 'ferry-db/bookings/timetable/ves*')
    await person.sees(/1 left/)
    expect(await person.text('[data-selection]')).not.toBe(all)
    await person.presses('Save as version 1')
    await person.arrivesAt(/\/vessels\/bookings$/)
    await person.sees('it has no recovery point yet')
  })

  it('backs up, with a name, and shows each step with its rows', async () => {
    await person.page.keyboard.press('b')
    await person.writes('input[name=name]', 'before the fare change')
    await person.clicks('[role=dialog] button[type=submit]')
    await person.arrivesAt(/\/runs\/[0-9a-f-]{36}$/)
    await person.sees('A new point of Bookings')
    const steps = await person.texts('[data-step]')
    expect(steps.some((step) => /^Snapshot/.test(step))).toBe(true)
    expect(steps.find((step) => step.startsWith('sales.booking_leg'))).toContain('140,000 rows')
    expect(steps.some((step) => step.includes('vessel_class'))).toBe(false)
    expect(await person.text('[data-run-state]')).toBe('done')
    expect(readdirSync(join(store, 'packs')).length).toBeGreaterThan(0)
  })

  it('starts the same run again, which stores next to nothing', async () => {
    await person.presses('Start it again')
    await person.sees(/A new point of Bookings: [\d,]+ rows, [\d.]+ (B|KB) new in the store/)
  })

  it('shows both points on the lifeline, and moves between them with the keys', async () => {
    await person.opens('/vessels/bookings')
    await person.sees('Bookings can be restored to 2 moments')
    await person.sees('exact')
    await person.page.keyboard.press('[')
    await person.arrivesAt(/[?&]at=/)
    await person.sees('“before the fare change”')
    await person.sees('Everything that was to be taken is in it.')
    await person.clicks('::-p-text(1 h)')
    await person.arrivesAt(/from=.*to=/)
    const before = await person.page.evaluate(() => location.search)
    await person.page.mouse.move(700, 260)
    await person.page.mouse.wheel({ deltaY: -600 })
    await person.page.waitForFunction((search) => location.search !== search, {}, before)
    // What was moved last belongs to the lifeline, and not to the page that is opened meanwhile.
    await person.page.keyboard.press(']')
    await person.clicks('a::-p-text(Contents)')
    await person.arrivesAt(/\/contents/)
    await person.sees('Export')
    expect(person.page.url()).not.toMatch(/from=/)
  })

  it('rehearses a restore without writing anything', async () => {
    const before = sql(LEGS)
    sql('drop table sales.booking_leg cascade')
    await person.clicks('a::-p-text(Restore…)')
    await person.ticks(LEG_PATH)
    await person.clicks(`[data-path="${LEG_PATH}"] button::-p-text(booking_leg)`)
    await person.sees('the table is not there now')
    await person.sees('140,000 gone')
    await person.sees('140,000 rows are restored to booking_leg')
    await person.presses('Rehearse')
    await person.sees(/Rehearsed, nothing was written: \d+ things would be restored/)
    expect(sql(`select to_regclass('sales.booking_leg') is null`)).toBe('t')
    await person.page.goBack()
    await person.sees('140,000 rows are restored to booking_leg')
    const structure = await brought(before)
    expect(structure).toContain('booking_leg')
  })

  /** Brings the dropped table back, and looks at the receipt and at the rows. */
  async function brought(before: string): Promise<string> {
    await person.clicks('[data-go]')
    await person.sees(/Done: \d+ things restored, proven equal/)
    expect(sql(LEGS)).toBe(before)
    expect(sql('select count(*) from sales.open_leg')).not.toBe('0')
    const line = (await person.texts('[data-receipt]')).find((text) => text.startsWith('sales.booking_leg'))!
    const [earlier, now] = line.match(/[0-9a-f]{32}/g)!
    expect(earlier).toBe(now)
    expect(line).toContain('Rows equal, structure equal')
    expect(await person.text('[data-run-state]')).toBe('done')
    return line
  }

  it('replaces a damaged table, asks for the reason, and keeps what it overwrote', async () => {
    const before = sql(LEGS)
    sql('delete from sales.booking_leg where leg_id % 100 = 0; update sales.booking_leg set fare = 1 where leg_id < 50')
    const damaged = sql(LEGS)
    await person.opens(`/vessels/bookings/restore?pick=${encodeURIComponent(LEG_PATH)}`)
    await person.sees('1,400 gone')
    await person.sees('49 changed')
    await person.clicks('[data-go]')
    expect(sql(LEGS)).toBe(damaged)
    await person.writes('input[name=reason]', 'the fare clean-up took live legs')
    await person.clicks('[data-go]')
    await person.sees('Done: 1 thing restored, proven equal')
    expect(sql(LEGS)).toBe(before)
    await person.sees('“the fare clean-up took live legs”')
    await person.clicks('[data-take-back]')
    await person.sees('What was overwritten is kept until')
    await person.writes('input[name=take-back-reason]', 'to see that it can be taken back')
    await person.clicks('[role=dialog] button[type=submit]')
    await person.sees('“to see that it can be taken back”')
    await person.sees('Done: 1 thing restored, proven equal')
    expect(sql(LEGS)).toBe(damaged)
  })

  it('brings a table back beside the original, under a name that is proposed', async () => {
    const damaged = sql(LEGS)
    await person.opens(`/vessels/bookings/restore?pick=${encodeURIComponent(LEG_PATH)}`)
    await person.clicks('[data-choice=beside]')
    await person.sees('140,000 rows are restored')
    await person.page.waitForFunction(() =>
      (document.querySelector('[data-operation] input') as HTMLInputElement | null)?.value.startsWith('booking_leg_then_'),
    )
    await person.writes('[data-operation] input', 'legs of before')
    await person.page.keyboard.press('Tab')
    await person.sees('about')
    await person.page.waitForFunction(() => !document.querySelector<HTMLButtonElement>('[data-go]')!.disabled)
    await person.clicks('[data-go]')
    await person.sees('Done: 1 thing restored, proven equal')
    await person.sees('legs of before')
    expect(sql('select count(*) from sales."legs of before"')).toBe('140000')
    expect(sql(LEGS)).toBe(damaged)
    sql('drop table sales."legs of before"')
  })

  it('cancels a backup, and leaves nothing half-made behind', async () => {
    const points = () => readdirSync(join(store, 'points')).sort()
    const [before, packs] = [points(), readdirSync(join(store, 'packs')).sort()]
    // So much that there is time to cancel it.
    sql('create table sales.tmp_big as select g, md5(g::text) from generate_series(1, 3000000) g')
    await person.opens('/vessels/bookings')
    await person.sees('Bookings can be restored')
    await person.page.keyboard.press('b')
    await person.clicks('[role=dialog] button[type=submit]')
    await person.arrivesAt(/\/runs\/[0-9a-f-]{36}$/)
    await person.presses('Cancel this run')
    await person.sees('Cancelled. No point was made, and nothing is left of it.')
    expect(points()).toEqual(before)
    expect(readdirSync(join(store, 'packs')).sort()).toEqual(packs)
    sql('drop table sales.tmp_big')
  })

  it('finds things and actions from anywhere', async () => {
    await person.opens('/')
    await person.sees('One vessel. One whole.')
    await person.page.keyboard.down('Control')
    await person.page.keyboard.press('k')
    await person.page.keyboard.up('Control')
    await person.writes('[role=dialog] input', 'booking_leg')
    await person.clicks('[role=option]::-p-text(sales/booking_leg)')
    await person.arrivesAt(/\/sources\/ferry-db\/bookings\/sales\/booking_leg$/)
    await person.sees('by ferry-db/bookings')
    await person.page.waitForFunction(() => !document.querySelector('[role=dialog]'))
    await person.page.keyboard.press('g')
    await person.page.keyboard.press('r')
    await person.arrivesAt(/\/runs$/)
    expect(existsSync(store)).toBe(true)
  })

  it('misses nothing that happens while a page opens', async () => {
    const { page } = person
    await page.setRequestInterception(true)
    const stream = new Promise<HTTPRequest>((resolve) =>
      page.on('request', (asked) => (asked.url().endsWith('/api/events') ? resolve(asked) : void asked.continue())),
    )
    await person.opens('/runs')
    const opening = await stream
    const headers = { 'content-type': 'application/json', origin: inject('url') }
    const stores = (await fetch(`${inject('url')}/api/stores`).then((answer) => answer.json())) as { id: string }[]
    const body = JSON.stringify({ kind: 'verify' })
    const { id } = await fetch(`${inject('url')}/api/stores/${stores[0]!.id}/runs`, { method: 'POST', headers, body }).then((answer) =>
      answer.json(),
    )
    await vi.waitFor(async () => expect(await state(id)).toBe('done'), { timeout: 30_000, interval: 100 })
    await opening.continue()
    await person.reads(ROW, /^Verification .* done/)
    page.removeAllListeners('request')
    await page.setRequestInterception(false)
  })

  const state = async (run: string): Promise<string> => (await (await fetch(`${inject('url')}/api/runs/${run}`)).json()).state
}
