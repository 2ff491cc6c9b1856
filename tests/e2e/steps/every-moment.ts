import { afterAll, afterEach, beforeAll, expect, inject, it, vi } from 'vitest'
import { Person, ROW } from '../../support/browser'
import { testServer } from '../../support/engine'

// From a mass delete on the lifeline to the moment before it, and the rows back; and the same transaction undone.

const LEGS = 'select count(*), sum(hashtext(l::text)::bigint) from sales.booking_leg l'
const FARE_CLEANUP = `set application_name = 'fare-cleanup'; begin; alter table sales.booking_leg disable trigger touch; commit; begin;
  delete from sales.booking_leg where leg_id in (select leg_id from sales.booking_leg where fare = 84 order by leg_id limit 1843); select pg_sleep(1.5); commit`

/** What Vue leaves at the element that it fills. */
interface WithApp {
  __vue_app__: {
    config: { globalProperties: { $router: { beforeResolve: (guard: (to: { path: string }) => Promise<void> | undefined) => void } } }
  }
}

/** The vessel Bookings is there and backed up. */
export function everyMoment(): void {
  const server = testServer()
  const sql = (text: string) => server.psql('bookings', text)
  let person: Person
  let before = ''
  beforeAll(async () => {
    person = await Person.at(inject('url'))
  })
  afterEach(() => expect(person.complaints).toEqual([]))
  afterAll(() => person?.leaves())

  /** The newest of so many mass deletes stands first: they weigh the same. */
  async function seesTheDelete(times: number): Promise<void> {
    await person.opens('/vessels/bookings')
    await person.clicks('::-p-text(1 h)')
    await person.page.waitForFunction(
      (count) =>
        Array.from(document.querySelectorAll<HTMLElement>('[data-heavy]')).filter((line) => /1,843 rows deleted from/.test(line.innerText))
          .length === count,
      { timeout: 60_000, polling: 200 },
      times,
    )
    await person.sees('by fare-cleanup')
  }

  it('is told beforehand whether any moment could be entered, and what is put at the source', async () => {
    sql('create table sales.tally (what text, n int); insert into sales.tally values (1, 2)')
    await person.opens('/vessels/bookings/definition')
    await person.clicks('[data-log] [role=switch]')
    await person.sees(/Any moment could be entered, for \d+ tables; 1 table only as of backups/)
    await person.sees('It has no key by which its rows can be told apart.')
    await person.sees('ALTER TABLE "sales"."tally" ADD COLUMN')
    await person.presses('Show the statements')
    await person.sees('create event trigger unbroken_vessel_command')
    await person.presses('Save as version')
    await person.sees(/This is version \d+, as saved/)
    await person.opens('/vessels/bookings')
    await person.sees('Bookings can be restored to any second since')
    await person.sees('log, any moment')
  })

  it('goes where a link leads, though the address of the page that is left is just being written', async () => {
    await person.opens('/vessels/bookings')
    await person.sees('Restore from')
    // As over a slow line, where the next page takes longer than the writing of the address.
    await person.page.evaluate(() => {
      const { $router } = (document.querySelector('#__nuxt') as unknown as WithApp).__vue_app__.config.globalProperties
      $router.beforeResolve((to) => (to.path.endsWith('/restore') ? new Promise((resolve) => setTimeout(resolve, 1000)) : undefined))
    })
    await person.clicks('::-p-text(1 h)')
    await person.page.$eval('[data-restore]', (link) => (link as HTMLElement).click())
    await person.arrivesAt(/restore\?point=/)
  })

  it('finds the mass delete, steps before it, compares, and brings the rows back', async () => {
    before = sql(LEGS)
    sql(FARE_CLEANUP)
    expect(sql(LEGS)).not.toBe(before)
    sql(`update sales.booking set note = 'after the clean-up' where booking_id = 7`)
    await seesTheDelete(1)
    await person.clicks('[data-heavy] button::-p-text(Just before this)')
    await person.sees('Just before this change')
    await person.sees('exact')
    // The half minute around it is in the log.
    expect(await person.page.$$eval('[data-band]', (bands) => bands.length)).toBeGreaterThan(0)
    await person.clicks('[data-restore]')
    await person.arrivesAt(/restore\?point=bookings~p/)
    await person.ticks('ferry-db/bookings/sales/booking_leg')
    await person.clicks('[data-path="ferry-db/bookings/sales/booking_leg"]')
    await person.sees('1,843 gone')
    await person.clicks('[aria-label="When names collide"] ::-p-text(merge)')
    await person.writes('input[name=reason]', 'the clean-up took legs that are valid')
    await person.clicks('[data-go], button[type=submit]::-p-text(Restore), button::-p-text(Restore 1)')
    await person.arrivesAt(/\/runs\/[0-9a-f-]{36}$/)
    await person.sees(/mended|proven equal|1,843/)
    await person.page.waitForFunction(() => /done/.test(document.querySelector('[data-run-state]')?.textContent ?? ''), { timeout: 60_000 })
    expect(sql(LEGS)).toBe(before)
    expect(sql('select note from sales.booking where booking_id = 7')).toBe('after the clean-up')
  })

  it('undoes the same kind of transaction, and leaves what came after it', async () => {
    before = sql(LEGS)
    sql(FARE_CLEANUP)
    const gone = sql('select coalesce(max(leg_id), 0) from sales.booking_leg')
    sql(`update sales.booking_leg set vehicle = 'a later change' where leg_id = ${gone}`)
    await seesTheDelete(2)
    await person.clicks('[data-heavy] a::-p-text(Undo…)')
    await person.sees('Undo the transaction of today')
    await person.sees('Nothing has touched them since.')
    await person.writes('input[name=reason]', 'fare clean-up by mistake')
    await person.clicks('[data-undo]')
    await person.arrivesAt(/\/runs\/[0-9a-f-]{36}$/)
    await person.page.waitForFunction(() => /done/.test(document.querySelector('[data-run-state]')?.textContent ?? ''), { timeout: 60_000 })
    expect(sql('select count(*) from sales.booking_leg')).toBe(before.split('|')[0])
    expect(sql(`select vehicle from sales.booking_leg where leg_id = ${gone}`)).toBe('a later change')
    await person.opens('/runs')
    await person.clicks('[aria-label=Filters] button::-p-text(Undos)')
    await person.reads(ROW, /^Undo Bookings today .* done, \d[\d,]* rows/)
    // The rows of before are there until the filter has gone to the server and back.
    await vi.waitFor(async () => expect((await person.texts(ROW)).every((row) => row.startsWith('Undo'))).toBe(true), {
      timeout: 10_000,
      interval: 100,
    })
  })

  it('follows a row through the log', async () => {
    const id = sql('select leg_id from sales.booking_leg where fare = 84 order by leg_id limit 1')
    await person.opens(`/vessels/bookings/changes?table=sales.booking_leg&column=leg_id&value=${id}`)
    // What was done last may not be in the store yet.
    await person.page.waitForFunction(() => document.querySelectorAll('[data-change]').length >= 3, { timeout: 30_000 })
    const changes = await person.texts('[data-change]')
    expect(changes.some((change) => change.startsWith('deleted')) && changes.some((change) => change.startsWith('inserted'))).toBe(true)
    expect(changes.every((change) => change.includes(id))).toBe(true)
  })
}
