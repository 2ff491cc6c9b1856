import { afterAll, afterEach, beforeAll, expect, inject, it } from 'vitest'
import { Person } from '../../support/browser'

// What a person sets for themselves, and looks for among much.

export function setAndFound(): void {
  let person: Person
  beforeAll(async () => {
    person = await Person.at(inject('url'))
    await person.page.emulateTimezone('Asia/Kolkata')
  })
  afterEach(() => expect(person.complaints).toEqual([]))
  afterAll(() => person?.leaves())

  const rows = () => person.texts('[data-row]')
  const shows = (wanted: (texts: string[]) => boolean) =>
    expect.poll(async () => wanted(await rows()), { timeout: 15_000, interval: 100 }).toBe(true)

  it('finds runs by their text, their vessel and their time, and a link brings the same', async () => {
    await person.opens('/runs')
    await shows((all) => all.length > 5)
    const all = (await rows()).length
    await person.writes('input[name=text]', 'before the fare')
    await shows((found) => found.length > 0 && found.length < all && found.every((row) => row.includes('before the fare')))
    await person.page.waitForFunction(() => location.search.includes('text='))
    await person.page.reload()
    await shows((found) => found.length > 0 && found.every((row) => row.includes('before the fare')))
    await person.presses('Show all runs')
    await shows((found) => found.length === all)
    await person.chooses('[aria-label=Vessel]', 'Bookings')
    await shows((found) => found.length > 0 && found.every((row) => row.includes('Bookings')))
    await person.writes('input[name=from]', 'some day')
    await person.page.keyboard.press('Tab')
    await person.sees('This is no time that is understood')
    expect(await person.page.evaluate(() => location.search.includes('from='))).toBe(false)
    await person.writes('input[name=to]', 'last tuesday 8:00')
    await person.page.keyboard.press('Tab')
    await person.sees('No run matches the filters.')
  })

  it('tells times in the zone that is set, and says which one that is', async () => {
    await person.opens('/runs?kinds=backup')
    await shows((all) => all.length > 0)
    const at = () => person.page.$eval('[data-row] td[title]', (cell) => (cell as HTMLElement).innerText)
    const here = await at()
    expect(await person.page.$('[data-zone]')).toBeNull()
    await person.clicks('[aria-label=Menu]')
    await person.clicks('[role=menuitemcheckbox]::-p-text(Times in UTC)')
    await person.sees('times in UTC')
    const minutes = (clock: string) => Number(clock.slice(-5, -3)) * 60 + Number(clock.slice(-2))
    expect((minutes(here) - minutes(await at()) + 1440) % 1440).toBe(330)
    await person.page.reload()
    await person.sees('times in UTC')
  })

  it('backs up several vessels at once', async () => {
    await person.opens('/vessels')
    await shows((all) => all.length > 1)
    await person.clicks('[aria-label="Pick all vessels"]')
    await person.clicks('[data-back-up-picked]')
    await person.sees(/Back up \d+ vessels now/)
    const names = await person.texts('[data-row] a.font-semibold')
    await person.clicks('[role=dialog] button[type=submit]')
    await person.arrivesAt(/\/runs\?states=running,waiting$/)
    await person.opens('/runs?kinds=backup')
    await shows((found) => names.every((name) => found.slice(0, names.length).some((row) => row.includes(name))))
  })
}
