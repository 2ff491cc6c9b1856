import { afterAll, afterEach, beforeAll, expect, inject, it } from 'vitest'
import { faultsOf } from '../../support/accessibility'
import { Person, ROW } from '../../support/browser'

// Every page, with what the ways before have left, as whoever sees badly or has no mouse meets it.

const VESSEL = '/vessels/bookings'
const PAGES: Record<string, string> = {
  Watch: '/',
  Sources: '/sources',
  'a thing in Sources': '/sources/ferry-db/bookings/sales',
  'connecting a source': '/sources?connect=1',
  Vessels: '/vessels',
  'a new vessel': '/vessels/new',
  'its lifeline': VESSEL,
  'its contents': `${VESSEL}/contents?show=ferry-db/bookings/sales/booking`,
  'its changes': `${VESSEL}/changes`,
  'its definition': `${VESSEL}/definition`,
  'a definition that quiesces': '/vessels/wharf-gate/definition',
  'its runs': `${VESSEL}/runs`,
  'its restores': `${VESSEL}/restores`,
  'a restore': `${VESSEL}/restore?pick=ferry-db/bookings/sales/booking`,
  'a restore of a namespace': '/vessels/wharf-gate/restore?pick=wharf/boarding',
  Runs: '/runs',
  'a month of runs': '/runs?view=month',
  'statistics of runs': '/runs?view=statistics',
  'what goes and what stays': '/points',
  Stores: '/stores',
  'making a store': '/stores?make=1',
  'what is not there': '/nowhere',
}

export function accessible(): void {
  let person: Person
  beforeAll(async () => {
    person = await Person.at(inject('url'))
  })
  afterEach(() => expect(person.complaints).toEqual([]))
  afterAll(() => person?.leaves())

  it.each(Object.entries(PAGES))('%s', async (_, path) => {
    await person.opens(path)
    await person.page.waitForSelector('main')
    expect(await faultsOf(person.page)).toEqual([])
  })

  it('a run with its receipt', async () => {
    await person.opens('/runs?kinds=restore&states=done')
    await person.clicks(`${ROW} a`)
    await person.sees('Receipt')
    expect(await faultsOf(person.page)).toEqual([])
  })

  it('a month of runs, of which a day opens its list, and where the time went', async () => {
    await person.opens('/runs')
    await person.clicks('[data-choice=month]')
    await person.clicks('[data-day]:not([disabled])')
    await person.page.waitForSelector(ROW)
    expect(new URL(person.page.url()).searchParams.get('from')).toMatch(/^20\d\d-/)
    await person.clicks('[data-choice=statistics]')
    await person.reads('[data-time-words]', /\d+ backups? took .* The longest part, \d+ %, /)
    await person.reads('[data-moved-words]', /were read, and .* were new in the store/)
  })

  it('the help and the palette', async () => {
    await person.opens(VESSEL)
    await person.sees('Back up now')
    await person.page.keyboard.press('?')
    await person.sees('Move the scrubber back by a pixel')
    expect(await faultsOf(person.page)).toEqual([])
    await person.page.keyboard.press('Escape')
    await person.page.waitForFunction(() => !document.querySelector('[role=dialog]'))
    await person.page.keyboard.down('Control')
    await person.page.keyboard.press('k')
    await person.page.keyboard.up('Control')
    await person.sees('Go to Watch')
    // Its list is gone through from the field above it, which keeps the focus.
    expect((await faultsOf(person.page)).filter((fault) => !fault.startsWith('scrollable-region-focusable'))).toEqual([])
  })
}
