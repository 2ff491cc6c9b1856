import { readdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { afterAll, beforeAll, expect, it } from 'vitest'
import { addStore, vesselOfStore } from '../../engine/catalog/stores'
import { saveDefinition, type Vessel } from '../../engine/catalog/vessels'
import { Workbench } from '../support/engine'

// A vessel that keeps its points in another store from now on: its old points still lie in the first.

let bench: Workbench
let vessel: Vessel
let first: string

beforeAll(async () => {
  bench = await Workbench.open(`create table leg as select g id, md5(g::text) note from generate_series(1, 2000) g`)
  vessel = await bench.vessel()
  first = (await bench.engine.db.selectFrom('store').select('id').executeTakeFirstOrThrow()).id
  await bench.backup(vessel)
  await addStore(bench.engine, { name: 'slipway', path: `${bench.place}-slipway` })
  await saveDefinition(bench.engine, vessel.slug, 1, { ...vessel.definition, store: 'slipway' })
  vessel = { ...vessel, version: 2, definition: { ...vessel.definition, store: 'slipway' } }
  await bench.backup(vessel)
})
afterAll(() => bench?.close())

it('a store is verified by its own name, whatever its vessels use now', async () => {
  const packs = join(bench.place, 'packs')
  const [pack] = readdirSync(packs)
  const bytes = readFileSync(join(packs, pack!))
  bytes[bytes.length >> 1]! ^= 0xff
  writeFileSync(join(packs, pack!), bytes)

  const of = await vesselOfStore(bench.engine, first)
  expect(of).toMatchObject({ store: 'dry-dock', vessel: { slug: vessel.slug } })
  const old = await bench.run('verify', of.vessel, { store: of.store })
  expect(old.state).toBe('failed')
  expect(old.error?.what).toContain('dry-dock')

  const now = await bench.run('verify', vessel, { store: 'slipway' })
  expect(now.state).toBe('done')
  const stores = await bench.engine.db.selectFrom('store').select(['name', 'verified_at', 'trouble']).orderBy('name').execute()
  expect(stores.map(({ name, trouble }) => [name, trouble === null])).toEqual([
    ['dry-dock', false],
    ['slipway', true],
  ])
  expect((await bench.run('reindex', of.vessel, { store: of.store })).outcome).toMatchObject({ added: 0 })
})

it('a store in which nothing lies, and that nobody uses, is not looked after for another one', async () => {
  await addStore(bench.engine, { name: 'empty', path: `${bench.place}-empty` })
  const { id } = await bench.engine.db.selectFrom('store').select('id').where('name', '=', 'empty').executeTakeFirstOrThrow()
  await expect(vesselOfStore(bench.engine, id)).rejects.toMatchObject({ code: 'store_unused' })
})
