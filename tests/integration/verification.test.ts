import { copyFileSync, mkdirSync, readdirSync, readFileSync, renameSync, rmdirSync, rmSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'
import { readRef } from '../../core/chain/moment-ref'
import { lanesOf, lifelineOf } from '../../engine/catalog/lifeline'
import { standings } from '../../engine/catalog/standing'
import { openStore } from '../../engine/catalog/stores'
import type { Vessel } from '../../engine/catalog/vessels'
import { unsureAt } from '../../engine/log/unsure'
import { openPoint } from '../../engine/points/open'
import { ChunkIndex } from '../../engine/store/index'
import { tidyUp } from '../../engine/runs/orphans'
import { rebuildIndex } from '../../engine/store/rebuild'
import { attentionNeeded } from '../../engine/watch/attention'
import { Workbench } from '../support/engine'
import { LogBench } from '../support/log'

// Verification says what it has looked at: damage is marked with all that needs it and nothing is removed, a disk that is
// away is no damage, and what can be read again is whole again.

const DATA = `
  create schema sales;
  create table sales.leg as select g as leg_id, md5(g::text) as note from generate_series(1, 20000) g;
  create table sales.berth as select g as berth_id, md5((g * 3)::text) as note from generate_series(1, 20000) g;`

const KEYS = '; alter table sales.leg add primary key (leg_id); alter table sales.berth add primary key (berth_id)'

let bench: Workbench
let vessel: Vessel
let points: string[]

beforeAll(async () => {
  bench = await Workbench.open(DATA)
  vessel = await bench.vessel()
  points = [await bench.backup(vessel)]
  bench.sql("update sales.leg set note = md5(note); insert into sales.berth values (0, 'more')")
  points.push(await bench.backup(vessel))
})
afterAll(() => bench?.close())

const place = (...names: string[]) => join(bench.place, ...names)
const verify = () => bench.run('verify', vessel)
const pointFile = (point: string) => place('points', `${point}.point`)
const indexed = () =>
  bench.engine.db
    .selectFrom('chunk')
    .select(['name', 'pack_id', 'position', 'length', 'plain_length', 'base'])
    .orderBy('name')
    .orderBy('pack_id')
    .execute()
const damages = async () =>
  (await lifelineOf(bench.engine, vessel.id, await lanesOf(bench.engine, vessel.id))).points.map(({ damage }) =>
    damage.map(({ path }) => path),
  )
const restore = (point: string, table: string) =>
  bench.restore(vessel, point, {
    picks: [bench.path('sales', table)],
    into: { mode: 'beside', schema: null, prefix: '', suffix: `_${point.slice(0, 8)}`, names: {} },
  })

/** Changes a byte of a chunk in its pack, or puts it back. */
function flip(path: string, { position, length }: { position: string | number; length: number }): void {
  const bytes = readFileSync(path)
  bytes[Number(position) + length - 5]! ^= 1
  writeFileSync(path, bytes)
}

/** All is whole, and is said to be. */
async function expectWhole(): Promise<void> {
  expect((await verify()).error).toBeNull()
  expect(await damages()).toEqual([[], []])
  expect((await bench.engine.db.selectFrom('point').select('verified_at').execute()).every(({ verified_at: at }) => at !== null)).toBe(true)
  expect((await bench.engine.db.selectFrom('store').select('trouble').executeTakeFirstOrThrow()).trouble).toBeNull()
}

describe('a store whose content is away for a while', () => {
  it('is no damage: the index stays, nothing is marked, and it is whole when it is back', async () => {
    await expectWhole()
    const before = await indexed()
    renameSync(place('packs'), place('elsewhere'))
    expect((await verify()).error).toMatchObject({ code: 'store_file_missing' })
    // As where a disk was mounted.
    mkdirSync(place('packs'))
    expect((await verify()).error).toMatchObject({ code: 'store_away' })
    rmdirSync(place('packs'))
    renameSync(place('elsewhere'), place('packs'))
    expect(await indexed()).toEqual(before)
    expect(await damages()).toEqual([[], []])
    await expectWhole()
    expect((await restore(points[0]!, 'leg')).run.state).toBe('done')
  })

  it('is none either when the records of its points are', async () => {
    renameSync(place('points'), place('elsewhere'))
    mkdirSync(place('points'))
    expect((await verify()).error).toMatchObject({ code: 'store_away' })
    rmdirSync(place('points'))
    renameSync(place('elsewhere'), place('points'))
    await expectWhole()
  })
})

describe('content that can’t be read', () => {
  it('is told at every verification, marked with the points that need it, and blocks just what rests upon it', async () => {
    const [pack] = readdirSync(place('packs'))
    const newest = (await bench.engine.db.selectFrom('pack').select('id').orderBy('created_at', 'desc').executeTakeFirstOrThrow()).id
    expect(pack).toBeDefined()
    renameSync(place('packs', `${newest}.pack`), place('gone.pack'))
    for (let i = 0; i < 2; i++) {
      expect((await verify()).error).toMatchObject({ code: 'store_damaged' })
      expect((await damages())[1]).not.toEqual([])
    }
    const standing = await standings(bench.engine)
    expect(standing[0]).toMatchObject({ state: 'broken', reason: expect.stringContaining('can’t come back whole') })
    const attention = await attentionNeeded(bench.engine, standing)
    expect(attention.map(({ what }) => what).join()).toContain('can’t come back whole')
    renameSync(place('gone.pack'), place('packs', `${newest}.pack`))
    await expectWhole()
  })

  it('is a table of a point: the others come back, and it does not', async () => {
    const chunk = await firstChunkOf('leg')
    const path = place('packs', `${chunk.pack_id}.pack`)
    flip(path, chunk)
    expect((await verify()).error).toMatchObject({ code: 'store_damaged' })
    expect(await damages()).toEqual([[], [bench.path('sales', 'leg')]])
    expect((await restore(points[1]!, 'leg')).run.error).toMatchObject({ code: 'content_lost' })
    expect((await restore(points[1]!, 'berth')).run.state).toBe('done')
    flip(path, chunk)
    await expectWhole()
    expect((await restore(points[1]!, 'leg')).run.state).toBe('done')
  })
})

describe('the record of a point', () => {
  it.each<[string, () => void]>([
    ['that was altered', () => writeFileSync(pointFile(points[0]!), readFileSync(pointFile(points[0]!)).reverse())],
    ['that was put in the place of another', () => copyFileSync(pointFile(points[1]!), pointFile(points[0]!))],
    ['that was removed', () => rmSync(pointFile(points[0]!))],
  ])('%s is found each time, and the others are whole', async (_, spoil) => {
    const before = readFileSync(pointFile(points[0]!))
    spoil()
    for (let i = 0; i < 2; i++) {
      expect((await verify()).error).toMatchObject({ code: 'store_damaged' })
      expect(await damages()).toEqual([['its record'], []])
    }
    writeFileSync(pointFile(points[0]!), before)
    await expectWhole()
  })
})

describe('an index that was lost', () => {
  it('is made again from the packs as it was, and all comes back; what is begun is gone on with', async () => {
    const before = await indexed()
    await bench.engine.db.deleteFrom('chunk').execute()
    await bench.engine.db.deleteFrom('pack').execute()
    const store = await openStore(bench.engine, { name: 'dry-dock' })
    const packs = readdirSync(place('packs')).length
    expect(await rebuildIndex(store)).toEqual({ packs, added: packs, torn: [] })
    expect(await indexed()).toEqual(before)
    const [{ id }] = (await bench.engine.db.selectFrom('pack').select('id').limit(1).execute()) as [{ id: string }]
    await bench.engine.db.deleteFrom('chunk').where('pack_id', '=', id).execute()
    await bench.engine.db.deleteFrom('pack').where('id', '=', id).execute()
    expect(await rebuildIndex(store)).toEqual({ packs, added: 1, torn: [] })
    expect(await indexed()).toEqual(before)
    await expectWhole()
    // As a run, which a person starts where the catalog lost it; until then nobody takes its packs for left over.
    await bench.engine.db.deleteFrom('chunk').execute()
    await bench.engine.db.deleteFrom('pack').execute()
    await tidyUp(bench.engine, true)
    expect((await verify()).state).toBe('failed')
    expect(await bench.run('reindex', vessel)).toMatchObject({ state: 'done', outcome: { packs, added: packs, torn: 0 } })
    expect(await indexed()).toEqual(before)
    await expectWhole()
  })
})

async function firstChunkOf(table: string) {
  const { openPoint } = await import('../../engine/points/open')
  const { members } = await openPoint(bench.engine, points[1]!)
  const { name } = members[0]!.manifest.databases[0]!.tables.find((candidate) => candidate.name === table)!.chunks.at(0)!
  return bench.engine.db.selectFrom('chunk').selectAll().where('name', '=', Buffer.from(name, 'hex')).executeTakeFirstOrThrow()
}

describe('a point that is made while its store is verified', () => {
  it('is no damage, and is not said to be verified', async () => {
    const { lost } = ChunkIndex.prototype
    let made = ''
    vi.spyOn(ChunkIndex.prototype, 'lost').mockImplementation(async function (this: ChunkIndex, names) {
      if (made === '') {
        made = 'soon'
        made = await bench.backup(vessel)
      }
      return lost.call(this, names)
    })
    try {
      expect((await verify()).error).toBeNull()
    } finally {
      vi.restoreAllMocks()
    }
    expect((await damages()).flat()).toEqual([])
    const rows = await bench.engine.db.selectFrom('point').select(['id', 'verified_at']).execute()
    expect(rows.filter(({ verified_at: at }) => at === null).map(({ id }) => id)).toEqual([made])
  })
})

describe('a moment in the log', () => {
  it('whose rows rest upon damaged content says so, and its other tables come back', async () => {
    const log = await LogBench.open(DATA + KEYS)
    const { engine } = log.bench
    try {
      const point = await log.bench.backup(log.vessel)
      log.follow()
      log.bench.sql("update sales.leg set note = 'changed' where leg_id = 7; update sales.berth set note = 'changed' where berth_id = 7")
      const moment = log.moment('sales.leg', 'sales.berth')
      await log.flush()
      const { manifest } = (await openPoint(engine, point)).members[0]!
      const leg = manifest.databases[0]!.tables.find(({ name }) => name === 'leg')!
      await engine.db
        .updateTable('chunk')
        .set({ damaged: true })
        .where('name', '=', Buffer.from(leg.chunks.at(0)!.name, 'hex'))
        .execute()
      const ref = log.ref(moment)
      const unsure = await unsureAt(engine, ref, readRef(ref)!)
      expect(unsure.map(({ path, reason }) => [path, /can’t be read in the store/.test(reason)])).toEqual([[leg.path, true]])
      const into = { mode: 'beside' as const, schema: null, prefix: '', suffix: '_then', names: {} }
      const lost = await log.bench.restore(log.vessel, ref, { picks: [leg.path], into })
      expect(lost.run.error).toMatchObject({ code: 'content_lost' })
      const { run } = await log.bench.restore(log.vessel, ref, { picks: [log.bench.path('sales', 'berth')], into })
      expect([run.error, run.state]).toEqual([null, 'done'])
      expect(log.rows('sales.berth_then')).toEqual(moment.tables['sales.berth'])
    } finally {
      await log.close()
    }
  })
})

describe('the structure from which a log is followed', () => {
  it('is looked at, and where it can’t be read any more a new full begins the log anew', async () => {
    const log = await LogBench.open(DATA + KEYS)
    const { engine } = log.bench
    try {
      await log.bench.backup(log.vessel)
      const { structure_names: structure } = await log.row()
      for (const name of structure!.chunks) {
        const chunk = await engine.db
          .selectFrom('chunk')
          .select(['pack_id', 'position', 'length'])
          .where('name', '=', Buffer.from(name, 'hex'))
          .executeTakeFirstOrThrow()
        flip(join(log.bench.place, 'packs', `${chunk.pack_id}.pack`), chunk)
      }
      const { error } = await log.bench.run('verify', log.vessel)
      expect(error?.what).toContain('1 structure from which a log is followed')
      log.follow()
      await vi.waitFor(
        async () => expect((await log.breaks()).map(({ reason }) => reason)).toEqual([expect.stringContaining('The structure from which')]),
        { timeout: 30_000, interval: 100 },
      )
      await log.unfollow()
      await log.bench.backup(log.vessel)
      log.follow()
      const moment = log.moment('sales.leg')
      await log.flush()
      await log.holds(moment)
    } finally {
      await log.close()
    }
  })
})
