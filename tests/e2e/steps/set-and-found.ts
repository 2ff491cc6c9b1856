import { afterAll, afterEach, beforeAll, expect, inject, it } from 'vitest'
import { Person, ROW } from '../../support/browser'

// What a person sets for themselves, and looks for among much.

export function setAndFound(): void {
  let person: Person
  beforeAll(async () => {
    person = await Person.at(inject('url'))
    await person.page.emulateTimezone('Asia/Kolkata')
  })
  afterEach(() => expect(person.complaints).toEqual([]))
  afterAll(() => person?.leaves())

  const rows = () => person.texts(ROW)
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
    const at = () => person.page.$eval(`${ROW} td > [title]`, (cell) => (cell as HTMLElement).innerText)
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

  it('sorts vessels by a column, the other way round, and as they were; a link brings the same', async () => {
    const names = () => person.texts(`${ROW} a.font-semibold`)
    const stand = (wanted: (all: string[]) => boolean) => expect.poll(async () => wanted(await names()), { timeout: 10_000 }).toBe(true)
    await person.opens('/vessels')
    await shows((all) => all.length > 2)
    const worstFirst = await names()
    const byName = [...worstFirst].sort((name, other) => name.toLowerCase().localeCompare(other.toLowerCase()))
    const isLike = (order: string[]) => (all: string[]) => all.join() === order.join()
    await person.presses('Vessel, worst first')
    await stand(isLike(byName))
    await person.clicks('th button::-p-text(Vessel)')
    await stand(isLike([...byName].reverse()))
    expect(await person.page.$eval('th:has(button[title="Sort by vessel"])', (head) => head.ariaSort)).toBe('descending')
    await person.page.reload()
    await stand(isLike([...byName].reverse()))
    await person.clicks('th button::-p-text(Vessel)')
    await stand(isLike(worstFirst))
  })

  it('puts a column away, and keeps that in this browser', async () => {
    await person.opens('/runs')
    await shows((all) => all.length > 5)
    const heads = () => person.texts('th')
    expect(await heads()).toContain('Started by')
    await person.clicks('[aria-label="Choose columns"]')
    await person.clicks('[role=menuitemcheckbox]::-p-text(Started by)')
    await person.page.keyboard.press('Escape')
    await person.page.reload()
    await shows((all) => all.length > 5)
    expect(await heads()).not.toContain('Started by')
    await person.clicks('[aria-label="Choose columns"]')
    await person.clicks('[role=menuitemcheckbox]::-p-text(Started by)')
    expect(await heads()).toContain('Started by')
  })

  it('backs up several vessels at once', async () => {
    await person.opens('/vessels')
    await shows((all) => all.length > 1)
    await person.clicks('[aria-label="Pick all vessels"]')
    await person.clicks('[data-back-up-picked]')
    await person.sees(/Back up \d+ vessels now/)
    const names = await person.texts(`${ROW} a.font-semibold`)
    await person.clicks('[role=dialog] button[type=submit]')
    await person.arrivesAt(/\/runs\?states=running,waiting$/)
    await person.opens('/runs?kinds=backup')
    await shows((found) => names.every((name) => found.slice(0, names.length).some((row) => row.includes(name))))
  })
}
