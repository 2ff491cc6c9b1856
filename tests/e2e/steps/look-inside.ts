import { existsSync, mkdirSync, readdirSync, readFileSync } from 'node:fs'
import { join } from 'node:path'
import { afterAll, afterEach, beforeAll, expect, inject, it } from 'vitest'
import yauzl from 'yauzl'
import { Person } from '../../support/browser'
import { testServer } from '../../support/engine'

const LEG = 'ferry-db/bookings/sales/booking_leg'
const contents = (more = '') => `/vessels/bookings/contents?show=${encodeURIComponent(LEG)}${more}`

/** Name and number of lines of each file of an archive. */
async function linesInZip(bytes: Buffer): Promise<string[]> {
  const zip = await yauzl.fromBufferPromise(bytes)
  const files: string[] = []
  for await (const entry of zip.eachEntry()) {
    let lines = 0
    for await (const part of await zip.openReadStreamPromise(entry)) for (const byte of part as Buffer) if (byte === 10) lines++
    files.push(`${entry.fileName} ${lines}`)
  }
  return files.sort()
}

/** Looks into the newest point of Bookings, and brings single rows back. */
export function lookInside(): void {
  const server = testServer()
  const sql = (text: string) => server.psql('bookings', text)
  let person: Person
  beforeAll(async () => {
    person = await Person.at(inject('url'))
    await backUp()
  })
  afterEach(() => expect(person.complaints).toEqual([]))
  afterAll(() => person?.leaves())

  async function backUp(): Promise<void> {
    await person.opens('/vessels/bookings')
    await person.sees('Bookings can be restored')
    await person.page.keyboard.press('b')
    await person.clicks('[role=dialog] button[type=submit]')
    await person.sees('A new point of Bookings')
  }

  it('goes from a moment to its contents, and through the rows of a table', async () => {
    await person.opens('/vessels/bookings')
    await person.presses('Open contents')
    await person.clicks(`[data-path="${LEG}"] button`)
    await person.sees(`${Number(sql('select count(*) from sales.booking_leg')).toLocaleString('en')} rows`)
    await person.clicks('[data-sort]')
    await person.sees('by leg_id')
    await person.reads('[data-content-row]', /^1 1 /)
    await person.writes('input[name=go-to-row]', '100000')
    await person.page.keyboard.press('Enter')
    const wanted = sql('select leg_id from sales.booking_leg order by leg_id offset 99999 limit 1')
    await person.page.waitForFunction(
      (id) =>
        Array.from(document.querySelectorAll<HTMLElement>('[data-content-row]')).some((row) => row.innerText.trim().startsWith(`${id}\n`)),
      {},
      wanted,
    )
  })

  it('filters by a column, and says when a value does not fit it', async () => {
    await person.opens(contents())
    await person.writes('input[name=filter-value]', 'seven')
    await person.presses('Filter')
    await person.sees('“seven” is no bigint, as leg_id is.')
    await person.clicks('[data-condition] button')
    await person.writes('input[name=filter-value]', '777')
    await person.presses('Filter')
    await person.sees(/1 found in [\d,]+ of [\d,]+ rows/)
    expect((await person.texts('[data-content-row]'))[0]).toMatch(/^777 /)
  })

  it('shows one row with its whole values, and how its table is made', async () => {
    await person.clicks('[data-content-row]')
    await person.sees('One row as it was, with its whole values.')
    expect(await person.text('[data-whole-row]')).toContain(sql('select berth from sales.booking_leg where leg_id = 777'))
    await person.page.keyboard.press('Escape')
    await person.page.waitForFunction(() => !document.querySelector('[role=dialog]'))
    await person.clicks('[role=tab]::-p-text(Structure)')
    await person.sees('CREATE TABLE sales.booking_leg')
    expect(await person.text('[data-ddl]')).toContain('CREATE INDEX leg_by_sailing')
  })

  it('takes a table out as a file that holds every row', async () => {
    const folder = join(inject('folder'), 'taken-out')
    mkdirSync(folder, { recursive: true })
    const session = await person.page.createCDPSession()
    await session.send('Browser.setDownloadBehavior', { behavior: 'allow', downloadPath: folder, eventsEnabled: true })
    const over = new Promise<void>((resolve) => session.on('Browser.downloadProgress', ({ state }) => state === 'completed' && resolve()))
    await person.presses('Export…')
    await person.clicks('[role=menuitem]::-p-text(CSV)')
    await over
    await person.sees(/[\d,]+ rows exported/)
    const [file] = readdirSync(folder)
    const lines = readFileSync(join(folder, file!), 'utf8').trimEnd().split('\r\n')
    expect(lines[0]).toBe('leg_id,booking_id,sailing_id,berth,fare,status,vehicle,updated_at')
    expect(lines.length - 1).toBe(Number(sql('select count(*) from sales.booking_leg')))
    expect(existsSync(folder)).toBe(true)
  })

  it('takes a schema out as an archive of every table, streamed', async () => {
    const { points } = (await (await fetch(`${inject('url')}/api/vessels/bookings/lifeline`)).json()) as { points: { id: string }[] }
    const path = 'ferry-db/bookings/timetable'
    const answer = await fetch(`${inject('url')}/api/points/${points.at(-1)!.id}/export?path=${path}&format=jsonl`)
    expect(answer.headers.get('content-disposition')).toMatch(/bookings\.timetable\.20\d{6}T\d{6}Z\.jsonl\.zip/)
    const files = await linesInZip(Buffer.from(await answer.arrayBuffer()))
    expect(files).toEqual([
      'timetable.port.jsonl 10',
      `timetable.route.jsonl ${sql('select count(*) from timetable.route')}`,
      `timetable.sailing.jsonl ${sql('select count(*) from timetable.sailing')}`,
      'timetable.ship.jsonl 12',
    ])
  })

  it('finds a row across time, with what changed from point to point', async () => {
    sql(`update sales.booking_leg set berth = 'bridge' where leg_id = 4711`)
    await backUp()
    sql('delete from sales.booking_leg where leg_id = 4711')
    await backUp()
    await person.opens(contents('&tab=time'))
    await person.writes('input[name=history-value]', '4711')
    await person.presses('Find across time')
    await person.sees(/It is in [\d,]+ of the [\d,]+ points/)
    const fates = await person.page.$$eval('[data-sighting]', (all) => all.map((sighting) => sighting.getAttribute('data-fate')))
    expect(fates.slice(0, 2)).toEqual(['gone', 'changed'])
    expect((await person.texts('[data-sighting]'))[1]).toMatch(/changed: .*berth/)
    await person.sees('bridge')
  })

  it('picks single rows, shows their statements, and brings just these back', async () => {
    sql(`update sales.booking_leg set berth = 'lost' where leg_id = 20; delete from sales.booking_leg where leg_id in (21, 22)`)
    const rest = 'select count(*), sum(hashtext(l::text)::bigint) from sales.booking_leg l where leg_id not in (20, 21)'
    const others = sql(rest)
    await person.opens(`/vessels/bookings/restore?show=${encodeURIComponent(LEG)}`)
    await person.sees('2 gone')
    await person.sees('1 changed')
    await person.clicks('[aria-label="Pick 20"]')
    await person.clicks('[aria-label="Pick 21"]')
    await person.sees('2 rows picked')
    await person.presses('Show the statements')
    await person.sees(/UPDATE "sales"."booking_leg" SET "berth" = /)
    expect(await person.text('[data-statements]')).toMatch(/INSERT INTO "sales"."booking_leg" .*'21'/)
    await person.page.keyboard.press('Escape')
    await person.sees('2 rows are restored to booking_leg')
    await person.writes('input[name=reason]', 'two legs only')
    await person.clicks('[data-go]')
    await person.sees('Done: 2 rows restored, proven equal')
    expect(sql(rest)).toBe(others)
    expect(sql('select leg_id, berth from sales.booking_leg where leg_id in (20, 21, 22) order by 1')).toMatch(/^20\|(?!lost).*\n21\|.*$/)
  })

  it('goes from rows that are ticked in the contents to a restore of just these', async () => {
    const wanted = sql('select leg_id, berth, fare from sales.booking_leg where leg_id in (777, 778) order by 1')
    sql('delete from sales.booking_leg where leg_id in (777, 778)')
    await person.opens(contents())
    await person.clicks('[data-sort]')
    await person.writes('input[name=filter-value]', '777')
    await person.chooses('[aria-label=Comparison]', '≥')
    await person.presses('Filter')
    await person.clicks('[aria-label="Pick 777"]')
    await person.clicks('[aria-label="Pick 778"]')
    await person.presses('Restore 2 rows…')
    await person.arrivesAt(/restore.*rows=/)
    await person.sees('2 rows are restored to booking_leg')
    await person.writes('input[name=reason]', 'deleted by mistake')
    await person.clicks('[data-go]')
    await person.sees('Done: 2 rows restored, proven equal')
    expect(sql('select leg_id, berth, fare from sales.booking_leg where leg_id in (777, 778) order by 1')).toBe(wanted)
  })

  it('compares two points with each other', async () => {
    await person.opens(`/vessels/bookings/restore?show=${encodeURIComponent(LEG)}`)
    await person.clicks('[aria-label="Another point"]')
    await person.clicks('[role=option]:nth-of-type(2)')
    await person.arrivesAt(/point=/)
    await person.clicks('[aria-label="Beside what"]')
    await person.clicks('[role=option]:nth-of-type(2)')
    await person.arrivesAt(/against=/)
    await person.sees('1 gone')
    await person.sees('The other point')
    expect((await person.texts('[data-compared]'))[0]).toContain('4711')
  })
}
