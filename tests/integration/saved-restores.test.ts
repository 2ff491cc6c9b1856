import { randomUUID } from 'node:crypto'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { wishOf } from '../../core/restore/wish'
import { keepChoice, keptChoice } from '../../engine/catalog/choices'
import { requireWhole } from '../../engine/catalog/points'
import { savedRestores, saveRestore } from '../../engine/catalog/saved-restores'
import type { Vessel } from '../../engine/catalog/vessels'
import { Workbench } from '../support/engine'

// Which point a saved restore begins with; and what is kept of a person's choices under a short name.

let bench: Workbench
let vessel: Vessel
const wish = wishOf({ picks: ['db/a'] })
beforeAll(async () => {
  bench = await Workbench.open('create table item (id int primary key)')
  vessel = await bench.vessel()
})
afterAll(() => bench?.close())

describe('a saved restore', () => {
  const points: string[] = []
  const begins = async (name: string) => (await savedRestores(bench.engine, vessel.id)).find((restore) => restore.name === name)!.point
  const set = (id: string, what: { missing?: string; damage?: string }) =>
    bench.engine.db.updateTable('point').set(what).where('id', '=', id).execute()

  it('has no point while there is none', async () => {
    await saveRestore(bench.engine, vessel, 'good', wish, null)
    await saveRestore(bench.engine, vessel, 'newest', wish, null, { which: 'newest' })
    expect([await begins('good'), await begins('newest')]).toEqual([null, null])
  })

  it('begins with the newest good point, strictly the newest, or the one that was named', async () => {
    for (let i = 0; i < 3; i++) points.push(await bench.backup(vessel))
    await saveRestore(bench.engine, vessel, 'named', wish, null, { which: 'named', point: points[0]! })
    const found = async () => [(await begins('good'))?.id, (await begins('newest'))?.id, (await begins('named'))?.id]
    expect(await found()).toEqual([points[2], points[2], points[0]])
    await set(points[2]!, { missing: JSON.stringify([{ path: 'db/a/b', reason: 'It could not be read.' }]) })
    expect(await found()).toEqual([points[1], points[2], points[0]])
    expect((await begins('newest'))!.lack).toEqual({ count: 1, first: 'db/a/b: It could not be read.' })
    await set(points[1]!, { damage: JSON.stringify([{ path: 'db/a/c', reason: 'A chunk is gone.' }]) })
    expect(await found()).toEqual([points[0], points[2], points[0]])
    // A note says that something is there and not quite as asked for.
    await set(points[1]!, { damage: 'null', missing: JSON.stringify([{ path: 'db/a/b', reason: 'As of earlier.', note: true }]) })
    expect((await found())[0]).toBe(points[1])
    await saveRestore(bench.engine, vessel, 'named', wish, null, { which: 'named', point: randomUUID() })
    expect(await begins('named')).toBeNull()
  })

  it('is refused a point that lacks something, and given one that is whole', async () => {
    await expect(requireWhole(bench.engine, points[2]!)).rejects.toMatchObject({ code: 'point_incomplete' })
    await requireWhole(bench.engine, points[0]!)
  })
})

describe('what was chosen', () => {
  it('is kept under a short name, the same for the same, and found by its kind only', async () => {
    const choice = await keepChoice(bench.engine, { of: 'restore', wish })
    expect(choice).toMatch(/^[\w-]{16}$/)
    expect(await keepChoice(bench.engine, { of: 'restore', wish })).toBe(choice)
    expect(await keepChoice(bench.engine, { of: 'files', files: ['a'] })).not.toBe(choice)
    expect((await keptChoice(bench.engine, choice, 'restore')).wish).toEqual(wish)
    await expect(keptChoice(bench.engine, choice, 'files')).rejects.toMatchObject({ code: 'choice_missing' })
    await expect(keptChoice(bench.engine, 'unknown', 'files')).rejects.toMatchObject({ code: 'choice_missing' })
  })
})
