import { cpSync, readdirSync, renameSync } from 'node:fs'
import { mkdir } from 'node:fs/promises'
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'
import { VesselError } from '../../core/errors'
import { renameStore } from '../../engine/catalog/store-changes'
import { addStore } from '../../engine/catalog/stores'
import { addSource } from '../../engine/catalog/sources'
import { addVessel, allVessels, renameVessel, saveDefinition, vesselBySlug, type Vessel } from '../../engine/catalog/vessels'
import { addRun } from '../../engine/catalog/runs'
import type { Engine } from '../../engine/engine'
import { keptLifeline } from '../../engine/retention/views'
import { lastLapsing } from '../../engine/retention/lapsing-soon'
import { deletedPlaces } from '../../engine/retention/deleted-places'
import { deleteSource, sourceDeletion } from '../../engine/retention/source-deletion'
import { deleteStore, storeDeletion } from '../../engine/retention/store-deletion'
import { deleteVessel, goneVessels, vesselDeparture } from '../../engine/retention/vessel-deletion'
import { FolderBackend } from '../../engine/store/folder'
import { perform } from '../../engine/runs/runner'
import { standings } from '../../engine/catalog/standing'
import { Workbench } from '../support/engine'

// Vessels, stores and sources are deleted and get other names; what was taken stays as long as was said, and is whole.

const DAY = 86_400_000
const DATA = `create table leg (id int primary key, v text); insert into leg select g, md5(g::text) from generate_series(1, 500) g`
const told = { reason: 'it is not needed', by: 'Ada' }

let bench: Workbench
let vessel: Vessel
beforeAll(async () => {
  bench = await Workbench.open(DATA)
  vessel = await bench.vessel('Ferries')
})
afterAll(() => bench?.close())

/** An engine whose clock is so much ahead. */
const ahead = (ms: number) =>
  Object.assign(Object.create(bench.engine) as Engine, {
    clock: { now: () => new Date(Date.now() + ms), ofSource: (at: Date) => at },
  })
const planned = { plan: { line: 'a', name: 'a', dueAt: new Date().toISOString(), place: 1, of: 1 } }
async function prune(store: string, ms: number) {
  const engine = ahead(ms)
  const id = await addRun(engine, { kind: 'prune', vessel, startedBy: 'a test', params: { store } })
  await perform(engine, id)
  return bench.record(id)
}

describe('a vessel', () => {
  it('gets another name, which no other one has', async () => {
    await bench.vessel('Other')
    await expect(renameVessel(bench.engine, 'other', 'FERRIES')).rejects.toMatchObject({ code: 'vessel_exists' })
    await expect(renameVessel(bench.engine, 'other', ' ')).rejects.toMatchObject({ code: 'definition_invalid' })
    await renameVessel(bench.engine, 'other', 'Quays')
    expect(await vesselBySlug(bench.engine, 'other')).toMatchObject({ name: 'Quays' })
    // As a letter of another size only.
    await renameVessel(bench.engine, 'other', 'quays')
  })

  it('is deleted once nothing of it goes on, and its points stay for their terms', async () => {
    const run = async (params: Record<string, unknown>) => (await bench.run('backup', vessel, params)).outcome!.point as string
    const automatic = await run({ what: 'full', ...planned })
    const byHand = await run({ what: 'full' })
    const waiting = await addRun(bench.engine, { kind: 'backup', vessel, startedBy: 'a test' })
    await expect(deleteVessel(bench.engine, vessel.slug, told)).rejects.toMatchObject({ code: 'vessel_in_use' })
    await perform(bench.engine, waiting)
    expect(await vesselDeparture(bench.engine, vessel.slug)).toMatchObject({ points: 3, pinned: 0, lines: 0 })

    await deleteVessel(bench.engine, vessel.slug, told)
    vessel = await vesselBySlug(bench.engine, vessel.slug)
    expect((await allVessels(bench.engine)).map(({ name }) => name)).toEqual(['quays'])
    expect((await standings(bench.engine)).map(({ name }) => name)).toEqual(['quays'])
    const [gone] = await goneVessels(bench.engine)
    expect(gone).toMatchObject({ name: 'Ferries', points: 3, gone: { by: 'Ada', reason: 'it is not needed' } })
    const daysTo = (at: Date | null) => Math.round((at!.getTime() - Date.now()) / DAY)
    expect([daysTo(gone!.firstGoes), daysTo(gone!.lastGoes)]).toEqual([90, 365])
    const { keeping } = await keptLifeline(bench.engine, vessel)
    expect([daysTo(keeping[automatic]!.until), daysTo(keeping[byHand]!.until)]).toEqual([90, 365])
  })

  it('is not backed up, paused or changed any more, and its name is free', async () => {
    const { definition } = vessel
    const refused = { code: 'vessel_gone' }
    await expect(addRun(bench.engine, { kind: 'backup', vessel, startedBy: 'a test' })).rejects.toMatchObject(refused)
    await expect(saveDefinition(bench.engine, vessel.slug, vessel.version, definition)).rejects.toMatchObject(refused)
    await expect(renameVessel(bench.engine, vessel.slug, 'Again')).rejects.toMatchObject(refused)
    await expect(deleteVessel(bench.engine, vessel.slug, told)).rejects.toMatchObject(refused)
    const again = await addVessel(bench.engine, 'Ferries', definition)
    expect(again.slug).not.toBe(vessel.slug)
    await deleteVessel(bench.engine, again.slug, told)
  })

  it('is restored from as long as its points stay, and they go when their term is over', async () => {
    const point = (await bench.engine.db.selectFrom('point').select('id').where('vessel_id', '=', vessel.id).orderBy('at').execute())[0]!.id
    bench.sql('delete from leg where id > 10')
    const { run } = await bench.restore(vessel, point, { picks: [bench.path('public', 'leg')], collide: 'replace' } as never)
    expect([run.error, run.state, bench.sql('select count(*) from leg')]).toEqual([null, 'done', '500'])

    expect(await lastLapsing(ahead(300 * DAY))).toEqual([])
    expect((await prune('dry-dock', 91 * DAY)).outcome).toMatchObject({ points: 1 })
    expect((await lastLapsing(ahead(360 * DAY))).map(({ what }) => what)).toEqual([
      expect.stringMatching(/^Ferries was deleted, and its last point goes in 5 days/),
    ])
    const last = await prune('dry-dock', 366 * DAY)
    expect([last.error, last.outcome]).toEqual([null, expect.objectContaining({ points: 2 })])
    expect(await goneVessels(bench.engine)).toEqual([])
    expect(await bench.engine.db.selectFrom('point').select('id').where('kept_for', 'is', null).execute()).toEqual([])
  })
})

describe('a store', () => {
  let second: string
  it('gets another name, in the definitions as well', async () => {
    second = (await addStore(bench.engine, { name: 'second', path: bench.place + ' 2' })).id
    const other = await vesselBySlug(bench.engine, 'other')
    await saveDefinition(bench.engine, 'other', other.version, { ...other.definition, store: 'second' })
    const waiting = await addRun(bench.engine, { kind: 'backup', vessel: await vesselBySlug(bench.engine, 'other'), startedBy: 'a test' })
    await expect(renameStore(bench.engine, second, 'slipway')).rejects.toMatchObject({ code: 'store_in_use' })
    await perform(bench.engine, waiting)
    await expect(renameStore(bench.engine, second, 'dry-dock')).rejects.toMatchObject({ code: 'store_exists' })
    await renameStore(bench.engine, second, 'slipway')
    const vessel = await vesselBySlug(bench.engine, 'other')
    expect(vessel.definition.store).toBe('slipway')
    expect((await bench.run('backup', vessel, { what: 'full' })).state).toBe('done')
  })

  it('is deleted with all that lies in it, once no vessel keeps its points there', async () => {
    expect(await storeDeletion(bench.engine, second)).toMatchObject({ keptBy: ['quays'], vessels: [{ name: 'quays', points: 2 }] })
    const asked = { points: 2, erase: true, ...told }
    await expect(deleteStore(bench.engine, second, asked)).rejects.toMatchObject({ code: 'store_kept' })
    const other = await vesselBySlug(bench.engine, 'other')
    await saveDefinition(bench.engine, 'other', other.version, { ...other.definition, store: 'dry-dock' })
    await expect(deleteStore(bench.engine, second, { ...asked, points: 1 })).rejects.toMatchObject({ code: 'deletion_changed' })
    expect(await deleteStore(bench.engine, second, asked)).toBeNull()
    expect(readdirSync(bench.place + ' 2')).toEqual([])
    const gone = await bench.engine.db.selectFrom('gone_point').select('why').where('vessel_id', '=', other.id).execute()
    expect(gone.map(({ why }) => why)).toEqual(Array(2).fill('its store was deleted: it is not needed'))
    expect(await bench.engine.db.selectFrom('pack').select('id').where('store_id', '=', second).execute()).toEqual([])
    const vessel = await vesselBySlug(bench.engine, 'other')
    expect((await bench.run('backup', vessel, { what: 'full' })).state).toBe('done')
  })

  it('tells, also later, what could not be erased of it', async () => {
    const { id } = await addStore(bench.engine, { name: 'stuck', path: bench.place + ' 5' })
    const stuck = new VesselError('store_not_writable', {
      what: 'It can’t be written.',
      touched: 'Some of its files may be left.',
      next: '',
    })
    vi.spyOn(FolderBackend.prototype, 'erase').mockRejectedValueOnce(stuck)
    expect(await deleteStore(bench.engine, id, { points: 0, erase: true, ...told })).toContain('can’t be written')
    const [place] = await deletedPlaces(bench.engine.db)
    expect(place).toMatchObject({
      kind: 'store',
      name: 'stuck',
      by: 'Ada',
      why: expect.stringMatching(/^it is not needed\. It can’t be written/),
    })
  })

  it('is deleted when its disk is gone for good', async () => {
    const place = bench.place + ' 3'
    const { id } = await addStore(bench.engine, { name: 'third', path: place })
    const other = await addStore(bench.engine, { name: 'fourth', path: bench.place + ' 4' })
    renameSync(place, place + ' away')
    await mkdir(place)
    // Nor is what lies there now erased in its place: nothing, or another store.
    for (let i = 0; i < 2; i++) {
      await expect(deleteStore(bench.engine, id, { points: 0, erase: true, ...told })).rejects.toMatchObject({ code: 'not_erased' })
      if (i === 0) cpSync(bench.place + ' 4', place, { recursive: true })
    }
    expect(readdirSync(place)).toContain('store.json')
    await deleteStore(bench.engine, other.id, { points: 0, erase: true, ...told })
    expect(await deleteStore(bench.engine, id, { points: 0, erase: false, ...told })).toBeNull()
    expect(readdirSync(place + ' away')).toContain('store.json')
  })
})

describe('a source', () => {
  it('is forgotten once no vessel takes from it by name, and its points are restored into another one', async () => {
    const { source, ...access } = await sourceOf()
    expect(await sourceDeletion(bench.engine, source.id)).toMatchObject({ takenBy: ['quays'], points: 1 })
    await expect(deleteSource(bench.engine, source.id, told)).rejects.toMatchObject({ code: 'source_taken' })
    await deleteVessel(bench.engine, 'other', told)
    await deleteSource(bench.engine, source.id, told)
    const gone = await vesselBySlug(bench.engine, 'other')
    const { id: point } = await bench.engine.db.selectFrom('point').select('id').where('vessel_id', '=', gone.id).executeTakeFirstOrThrow()
    const picks = [bench.path('public', 'leg')]
    const away = await bench.restore(gone, point, { picks, collide: 'replace' } as never)
    expect(away.run.error).toMatchObject({ code: 'source_missing' })
    await addSource(bench.engine, { name: 'elsewhere', ...access } as never)
    const into = { mode: 'elsewhere', source: 'elsewhere', database: bench.database }
    bench.sql('delete from leg')
    const { run } = await bench.restore(gone, point, { picks, into, collide: 'replace' } as never)
    expect([run.error, run.state, bench.sql('select count(*) from leg')]).toEqual([null, 'done', '500'])
    // Under its old name it is another one, and nothing of it is lost.
    await addSource(bench.engine, { name: source.name, ...access } as never)
    expect(await bench.restore(gone, point, { picks, collide: 'replace' } as never)).toMatchObject({ run: { state: 'done' } })
  })

  async function sourceOf() {
    const source = await bench.engine.db.selectFrom('source').selectAll().executeTakeFirstOrThrow()
    const password = bench.engine.secrets.open(source.sealed_secret!, `source ${source.id}`).toString()
    return { source, settings: source.settings, password }
  }
})
