import pg from 'pg'
import type { HTTPRequest } from 'puppeteer-core'
import { afterAll, afterEach, beforeAll, expect, inject, it, vi } from 'vitest'
import { Person } from '../../support/browser'
import { testServer } from '../../support/engine'

const LEG = 'ferry-db/bookings/sales/booking_leg'

/** Sends things of the newest point of Bookings to other places. */
export function whereTo(): void {
  const server = testServer()
  const sql = (text: string, database = 'bookings') => server.psql(database, text)
  let person: Person
  beforeAll(async () => {
    person = await Person.at(inject('url'))
  })
  afterEach(() => expect(person.complaints).toEqual([]))
  afterAll(() => person?.leaves())

  const ready = () => person.page.waitForFunction(() => document.querySelector<HTMLButtonElement>('[data-go]')?.disabled === false)
  const databases = () => sql(`select string_agg(datname, ',') from pg_database where datname like 'scratch%'`, 'postgres')

  it('asks nothing before it knows what the point holds, so that no choice moves away under the finger', async () => {
    const { page } = person
    await page.setRequestInterception(true)
    const held: HTTPRequest[] = []
    const hold = (request: HTTPRequest) =>
      void (/\/api\/points\/[^/?]+(\?|$)/.test(request.url()) ? held.push(request) : request.continue())
    page.on('request', hold)
    await person.opens(`/vessels/bookings/restore?pick=${encodeURIComponent(LEG)}`)
    await person.sees('What should be restored from Bookings')
    await vi.waitFor(() => expect(held.length).toBeGreaterThan(0))
    expect(await page.$$('[data-choice]')).toEqual([])
    page.off('request', hold)
    page.on('request', (request) => void request.continue())
    await page.evaluate(() => {
      const seen = ((window as unknown as { seen: Set<string> }).seen = new Set())
      const look = () => {
        const box = document.querySelector('[data-choice=merge]')?.getBoundingClientRect()
        if (box) seen.add(`${Math.round(box.left)} ${Math.round(box.top)}`)
        requestAnimationFrame(look)
      }
      look()
    })
    for (const request of held) await request.continue()
    await ready()
    expect(await page.evaluate(() => (window as unknown as { seen: Set<string> }).seen.size)).toBe(1)
    page.removeAllListeners('request')
    await page.setRequestInterception(false)
  })

  it('keeps what was chosen while one looks elsewhere, and begins anew where something else is asked for', async () => {
    const picked = () => person.page.$$eval('[role=checkbox][data-state=checked]', (all) => all.map((checkbox) => checkbox.ariaLabel))
    await person.opens(`/vessels/bookings/restore?pick=${encodeURIComponent(LEG)}`)
    await person.clicks('[data-choice=merge]')
    await ready()
    const before = await picked()
    expect(before).toContain('Restore booking_leg')
    await person.presses('Back to the lifeline')
    await person.arrivesAt(/\/vessels\/bookings(\?|$)/)
    await person.presses('Restore…')
    await ready()
    expect(await picked()).toEqual(before)
    expect(await person.page.$eval('[data-choice=merge]', (choice) => choice.ariaChecked ?? choice.ariaPressed)).toBe('true')
    await person.opens(`/vessels/bookings/restore?pick=${encodeURIComponent('ferry-db/bookings/sales/booking')}`)
    await ready()
    expect(await picked()).toEqual(['Restore booking'])
  })

  it('makes a scratch copy with a connection string, and drops it', async () => {
    await person.opens('/vessels/bookings/restore')
    await person.ticks('ferry-db/bookings')
    await person.clicks('[data-choice=scratch]')
    await person.sees('rows are restored to a scratch copy of')
    // The vessel leaves one table out, which is told before.
    await person.sees('ship refers to vessel_class, which this point does not hold')
    await ready()
    await person.clicks('[data-go]')
    await person.sees(/\d+ things restored into scratch_bookings_\w+, 1 part not as it was/)
    await person.sees('gone in')
    await person.presses('Show the connection string')
    await person.sees('postgresql://scratch_')
    const connectionString = (await person.text('[data-connection]')).trim()
    const client = new pg.Client({ connectionString })
    await client.connect()
    const { rows } = await client.query<{ legs: number }>('select count(*)::int as legs from sales.booking_leg')
    expect(rows[0]!.legs).toBeGreaterThan(130_000)
    await client.query('delete from sales.refund')
    await client.end()
    await person.opens('/vessels/bookings/restores')
    await person.presses('Drop now')
    await person.presses('Cancel')
    expect(databases()).not.toBe('')
    await person.presses('Drop now')
    await person.clicks('[data-yes]')
    await person.page.waitForFunction(() => !document.querySelector('[data-scratch]'))
    expect(databases()).toBe('')
  })

  it('brings a table and what it needs into another database, which is made', async () => {
    await person.opens(`/vessels/bookings/restore?pick=${encodeURIComponent(LEG)}`)
    await person.clicks('[data-choice=elsewhere]')
    await person.writes('input[name=database]', 'legs_only')
    await person.sees(/rows are restored to .* in legs_only/)
    await person.sees('Comes along: booking_leg needs it.')
    await ready()
    await person.clicks('[data-go]')
    await person.sees(/things restored into legs_only, 1 part not as it was/)
    expect(Number(sql('select count(*) from sales.booking_leg', 'legs_only'))).toBeGreaterThan(130_000)
    expect(Number(sql('select count(*) from sales.booking', 'legs_only'))).toBe(70_000)
    sql('drop database legs_only', 'postgres')
  })

  it('says before anything is done what stands in the way', async () => {
    sql('alter table timetable.sailing add column extra int; alter table timetable.sailing drop column cancelled cascade')
    await person.opens(`/vessels/bookings/restore?pick=${encodeURIComponent('ferry-db/bookings/timetable/sailing')}`)
    await person.clicks('[data-choice=rows]')
    await person.sees('so rows of then do not fit into it')
    expect(await person.page.$eval('[data-go]', (button) => (button as HTMLButtonElement).disabled)).toBe(true)
    await person.clicks('[data-choice=both]')
    await ready()
    await person.writes('input[name=reason]', 'the column is needed')
    await person.clicks('[data-go]')
    await person.sees(/restored, proven equal/)
    expect(sql('select count(*) from timetable.sailing where cancelled')).not.toBe('0')
  })

  it('adds only what is missing, saved under a name and run again', async () => {
    sql('delete from sales.booking_leg where leg_id between 501 and 509; update sales.booking_leg set fare = 3 where leg_id = 650')
    await person.opens(`/vessels/bookings/restore?pick=${encodeURIComponent(LEG)}`)
    await person.clicks('[data-choice=merge]')
    await person.sees('Rows that are missing are restored to booking_leg')
    await ready()
    await person.writes('input[name=reason]', 'legs go missing now and then')
    await person.clicks('[data-save-restore]')
    await person.writes('input[name=restore-name]', 'Missing legs')
    await person.presses('Save this restore')
    await person.sees('Saved')
    await person.opens('/vessels/bookings/restores')
    await person.sees('Missing legs')
    await person.reads('[data-begins]', /^the newest complete point, today/)
    await person.presses('Restore again')
    await person.sees('Rows that are missing are restored to booking_leg')
    await ready()
    // The reason of then counted then.
    await person.writes('input[name=reason]', 'legs are missing once more')
    await person.clicks('[data-go]')
    await person.arrivesAt(/\/runs\//)
    await person.sees(/Done: \d+ rows restored, proven equal/)
    expect(sql('select count(*) from sales.booking_leg where leg_id between 501 and 509')).toBe('9')
    expect(sql('select fare from sales.booking_leg where leg_id = 650')).toBe('3.00')
  })

  it('is told once of what went from a schema together, and restores just that', async () => {
    const counted = () => sql('select (select count(*) from loyalty.voucher), (select sum(points) from loyalty.point_entry)')
    const before = counted()
    const members = sql(`select 'loyalty.member'::regclass::oid`)
    sql('drop table loyalty.voucher, loyalty.point_entry cascade')
    await person.opens('/sources/ferry-db')
    await person.presses('Discover again')
    await person.opens('/')
    await person.sees('2 tables of loyalty are gone from ferry-db / bookings: point_entry, voucher.')
    await person.clicks('[data-loss] a::-p-text(Restore from the point of)')
    await person.arrivesAt(/restore\?.*gone=/)
    await ready()
    await person.clicks('[data-go]')
    await person.sees(/Done: \d+ things restored, proven equal/)
    expect(counted()).toBe(before)
    // What stood there was not touched.
    expect(sql(`select 'loyalty.member'::regclass::oid`)).toBe(members)
    expect((await person.texts('[data-receipt]')).some((line) => line.startsWith('loyalty.member '))).toBe(false)
    await person.opens('/sources/ferry-db')
    await person.presses('Discover again')
    await person.opens('/')
    await person.sees('Nothing needs attention.')
  })
}
