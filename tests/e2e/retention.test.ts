import { mkdtempSync } from 'node:fs'
import { join } from 'node:path'
import { afterAll, afterEach, beforeAll, describe, expect, inject, it } from 'vitest'
import type { StoreView } from '../../server/views'
import { faultsOf } from '../support/accessibility'
import { Application } from '../support/application'
import { Person, ROW } from '../support/browser'
import { testServer } from '../support/engine'
import { takes } from '../support/right-requests'

// How long points stay is said, one is pinned, one is deleted, the others go, and the store becomes smaller.

const DATABASE = 'kept_data'
const CATALOG = 'kept_catalog'
const server = testServer()
let application: Application
let person: Person

beforeAll(async () => {
  const folder = mkdtempSync(join(inject('folder'), 'kept-'))
  server.psql('postgres', `create database ${CATALOG}; create database ${DATABASE}`)
  server.psql(DATABASE, `create table leg (id int primary key, v text); insert into leg select g, '' from generate_series(1, 4000) g`)
  application = await Application.start(folder, server.url(CATALOG))
  await application.connects(folder)
  await application.asks('POST', '/api/vessels', { name: 'Kept', definition: takes('database', `db/${DATABASE}`) })
  person = await Person.at(application.url)
})
afterEach(() => expect(person.complaints).toEqual([]))
afterAll(async () => {
  await person?.leaves()
  await application?.stop()
})

const stored = async () => (await application.asks<StoreView[]>('GET', '/api/stores'))[0]!
/** Points that a plan has made, each of rows of its own. */
async function makePoints(count: number): Promise<void> {
  for (let i = 1; i <= count; i++) {
    server.psql(DATABASE, `update leg set v = md5(id || '-${i}') || md5(id || '+${i}')`)
    await application.asks('POST', '/api/vessels/kept/runs', {})
    await application.points('kept')
  }
  // Nobody waits for days here: what a person began is told to be of the plan, a day after the other.
  const plan = JSON.stringify({ line: 'a', name: 'nightly', dueAt: new Date().toISOString(), place: 1, of: 1 })
  server.psql(
    CATALOG,
    `with n as (select id, row_number() over (order by at desc) as n from point)
     update point set plan = '${plan}', at = point.at - n.n * interval '1 day' from n where n.id = point.id;
     update artifact set at = p.at, from_at = p.at from point_artifact l join point p on p.id = l.point_id where l.artifact_id = artifact.id`,
  )
}
const listed = () => person.texts('section[aria-label="Points"] [data-row]')
/** Enters a point by its place in the list, the newest first. */
const enters = async (nth: number) => {
  await person.clicks(`section[aria-label="Points"] [data-row]:nth-of-type(${nth}) button`)
  await person.page.waitForSelector(`section[aria-label="Points"] [data-row]:nth-of-type(${nth}) button[aria-current]`)
}

describe('how long points stay', () => {
  it('is written in rules, and said before it is saved', async () => {
    await makePoints(5)
    await person.opens('/vessels/kept/definition')
    await person.sees('they stay until somebody deletes them')
    await person.clicks('[data-retention] button[role=switch]')
    await person.sees('one of each is the first good point of it, by the calendar of UTC')
    for (let i = 4; i > 1; i--) await person.clicks(`button[aria-label="Remove rule ${i}"]`)
    await person.clicks('button[aria-label="What rule 1 keeps"]')
    await person.clicks('[role=option]::-p-text(the last points)')
    await person.writes('input[aria-label="How many of rule 1"]', '0')
    await person.sees('A rule of how long points stay counts from 1 to 10,000')
    await person.writes('input[aria-label="How many of rule 1"]', '2')
    await person.writes('#keep-least', '1')
    await person.sees('Points go by themselves from now on; what stays: the last 2 points.')
    expect(await faultsOf(person.page)).toEqual([])
    await person.clicks('[data-save-definition]')
    await person.sees('This is version 2, as saved.')
  })

  it('is told of each point, and a pin keeps one whatever the rules say', async () => {
    await person.opens('/vessels/kept')
    await person.sees('goes with the next prune')
    expect(await listed()).toHaveLength(5)
    await enters(5)
    await person.sees('nightly. Goes with the next prune: no rule keeps it.')
    await person.clicks('[data-pin]')
    await person.clicks('[role=dialog] [data-yes]')
    await person.sees('Say why it is pinned.')
    await person.writes('[name=reason]', 'the audit of the year')
    await person.clicks('[role=dialog] [data-yes]')
    await person.sees('Stays, pinned: the audit of the year.')
    await enters(1)
    await person.sees(/Stays(,|:| until)/)
    expect(await faultsOf(person.page)).toEqual([])
  })

  it('is seen of all vessels at once: what goes, and what is pinned and why', async () => {
    await person.opens('/vessels')
    await person.clicks('[data-notable]')
    await person.reads('[data-notable=soon]', /2 points.*Kept .* goes with the next prune nightly/)
    await person.reads('[data-notable=pinned]', /1 point.*pinned: the audit of the year/)
    expect(await faultsOf(person.page)).toEqual([])
    await person.opens('/vessels/kept')
  })

  it('ends where somebody deletes a point, who is told what that takes away', async () => {
    await enters(4)
    await person.clicks('[data-delete]')
    await person.reads('[data-going]', /no other point builds on it.*no moment of the log.*up to \d/)
    await person.writes('[name=reason]', 'it holds what must not be kept')
    await person.clicks('[data-delete-it]')
    await person.page.waitForFunction(() => document.querySelectorAll('section[aria-label="Points"] [data-row]').length === 4)
    await person.page.waitForSelector('[data-hollow=gone]')
  })

  it('is carried out by a prune, after a dry run, and the store becomes smaller', async () => {
    const before = await stored()
    await person.opens('/stores')
    await person.clicks('[data-dry]')
    await person.sees(/Nothing was removed. A prune of the store dry-dock would let go: 1 point, [\d.]+ KB/)
    expect((await stored()).bytes).toBe(before.bytes)
    await person.opens('/stores')
    await person.clicks('[data-prune-now]')
    await person.sees(/Of the store dry-dock 1 point, [\d.]+ KB went/)
    const after = await stored()
    // Two of five points are gone, each with rows of its own.
    expect(after.bytes / before.bytes).toBeLessThan(0.65)
    expect(after.points).toBe(3)
    await person.opens('/vessels/kept')
    await person.sees('pinned')
    expect(await listed()).toHaveLength(3)
    expect((await person.page.$$('[data-hollow=gone]')).length).toBeGreaterThan(0)
    // What stays comes back.
    await person.opens('/stores')
    await person.sees(/Last (today|yesterday)/)
    await person.clicks('button::-p-text(Verify its content)')
    await person.sees('is whole')
    // What looks after the store stands at the store, and is no run of the vessel.
    await person.opens('/runs?kinds=prune,verify')
    await person.page.waitForSelector(ROW)
    expect((await person.texts(ROW)).every((row) => row.includes('dry-dock') && !row.includes('Kept'))).toBe(true)
    const ofVessel = await application.asks<{ kind: string }[]>('GET', '/api/runs?vessel=kept')
    expect(new Set(ofVessel.map(({ kind }) => kind))).toEqual(new Set(['backup']))
  })

  it('is asked for when somebody backs up by hand', async () => {
    await person.opens('/vessels/kept')
    await person.clicks('button::-p-text(Back up now)')
    await person.clicks('button[aria-label="How long the point stays"]')
    await person.clicks('[role=option]::-p-text(for 30 days)')
    await person.clicks('button[form=back-up]')
    await person.sees('A new point')
    await person.opens('/vessels/kept')
    await person.sees(/By hand. Stays until \d+ \w+( \d{4})?: as was said when it was made/)
  })
})

describe('what is not needed any more', () => {
  it('gets another name: a vessel, and a store in the definitions that name it', async () => {
    await person.opens('/vessels/kept/definition')
    await person.clicks('[data-rename]')
    await person.writes('[role=dialog] [name=name]', ' ')
    await person.clicks('[data-rename-it]')
    await person.sees('The name needs a letter or a digit at least.')
    await person.writes('[role=dialog] [name=name]', 'Kept well')
    await person.clicks('[data-rename-it]')
    await person.sees('Kept well can be restored')
    await person.opens('/stores')
    await person.clicks('[data-rename]')
    await person.writes('[role=dialog] [name=name]', 'slipway')
    await person.clicks('[data-rename-it]')
    await person.reads('section h2', /slipway/)
    await person.opens('/vessels/kept/definition')
    await person.reads('nav[aria-label=Headings]', /slipway/)
  })

  it('is not deleted while something rests on it, and says what', async () => {
    await person.opens('/stores')
    await person.chooses('button[aria-label="How many runs at once"]', 'at most 2 runs at once')
    await expect.poll(async () => (await stored()).atOnce).toBe(2)
    await person.clicks('[data-delete-store]')
    await person.reads('[data-refused]', /Kept well keeps its points there/)
    expect(await person.page.$eval('[data-delete-it]', (button) => (button as HTMLButtonElement).disabled)).toBe(true)
    await person.opens('/sources/db')
    await person.clicks('[data-delete-source]')
    await person.reads('[data-refused]', /Kept well takes something from it by name/)
  })

  it('goes when a vessel is deleted, and its points stay among those that are gone, to be restored from', async () => {
    await person.opens('/vessels/kept/definition')
    await person.clicks('[data-delete-vessel]')
    await person.reads('[data-going]', /what is made of it by hand.*4 points.*to be restored from/)
    expect(await faultsOf(person.page)).toEqual([])
    await person.clicks('[data-delete-it]')
    await person.sees('Say why it is deleted.')
    await person.writes('[name=reason]', 'the service was switched off')
    await person.clicks('[data-delete-it]')
    await person.reads('[data-gone]', /Kept well 4 points.*The last one has no end; 1 is pinned.*the service was switched off/)
    expect(await faultsOf(person.page)).toEqual([])
    await person.clicks('[data-gone] a')
    await person.sees('Kept well was deleted today, and can be restored from 4 points for now.')
    expect(await person.texts('nav[aria-label=Tabs] a')).not.toContain('Definition')
    expect(await person.page.$('button::-p-text(Back up now)')).toBeNull()
    server.psql(DATABASE, 'delete from leg where id > 100')
    const [point] = await application.points('kept')
    const wish = { picks: [`db/${DATABASE}/public/leg`], into: { mode: 'original' }, collide: 'replace' }
    await application.asks('POST', `/api/points/${point!.id}/restore`, { wish, reason: 'it is needed after all', rehearsal: false })
    await expect.poll(() => server.psql(DATABASE, 'select count(*) from leg'), { timeout: 30_000 }).toBe('4000')
  })

  it('and then the store with what is left, and the source', async () => {
    await person.opens('/vessels/kept')
    await enters(4)
    await person.clicks('[data-unpin]')
    await person.opens('/stores')
    await person.clicks('[data-delete-store]')
    await person.reads('[data-going]', /4 points of Kept well/)
    await person.writes('[name=reason]', 'its disk is taken out')
    await person.clicks('[data-delete-it]')
    await person.sees('There is no store yet, so nothing can be kept.')
    await person.reads('[data-deleted-places]', /slipway was deleted today .* its disk is taken out/)
    await person.opens('/sources/db')
    await person.clicks('[data-delete-source]')
    await person.reads('[data-going]', /the server itself is not touched.*no point holds anything of it/)
    await person.writes('[name=reason]', 'the server was taken down')
    await person.clicks('[data-delete-it]')
    await person.sees('Nothing is connected yet.')
  })
})
