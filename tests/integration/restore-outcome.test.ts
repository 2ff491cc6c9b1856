import { randomUUID } from 'node:crypto'
import { connect as connectTo, createServer, type Socket } from 'node:net'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { wishOf } from '../../core/restore/wish'
import { changeReach } from '../../engine/catalog/source-access'
import { accessOf } from '../../engine/catalog/sources'
import { openStore } from '../../engine/catalog/stores'
import { pointPath } from '../../engine/store/records'
import { openPoint, noRows } from '../../engine/points/open'
import { planAll, planDigest } from '../../engine/runs/restore-plan'
import { standingOfVessel } from '../../engine/catalog/standing'
import { Workbench } from '../support/engine'

// What a restore says of itself when its connection breaks at the last moment, or when the world changed meanwhile.

let bench: Workbench
beforeAll(async () => {
  bench = await Workbench.open(
    `create table item (id int primary key, v text); insert into item select g, 'v' from generate_series(1, 100) g; create view items as select id from item`,
  )
})
afterAll(() => bench?.close())

/** Stands between us and the server, and cuts a connection once it was told to commit, before the answer comes back. */
async function cutter(port: number): Promise<{ port: number; cuts: () => number; close: () => void }> {
  const open = new Set<Socket>()
  let cuts = 0
  const server = createServer((client) => {
    const upstream = connectTo(port, '127.0.0.1')
    let silent = false
    open.add(client).add(upstream)
    client
      .on('error', () => undefined)
      .on('data', (bytes) => {
        // A query message that says nothing but commit.
        if (bytes.toString('latin1').endsWith('commit\0') && cuts === 0) {
          cuts++
          silent = true
          setTimeout(() => (client.destroy(), upstream.destroy()), 200)
        }
        upstream.write(bytes)
      })
    upstream.on('error', () => undefined).on('data', (bytes) => void (silent || client.write(bytes)))
    client.on('close', () => upstream.destroy())
    upstream.on('close', () => client.destroy())
  })
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve))
  const close = () => {
    for (const socket of open) socket.destroy()
    server.close()
  }
  return { port: (server.address() as { port: number }).port, cuts: () => cuts, close }
}

describe('a connection that breaks while a restore commits', () => {
  it('is asked what became of it, so that nothing that is there is told to have been rolled back', async () => {
    const vessel = await bench.vessel('Item')
    const point = await bench.backup(vessel)
    const { id, settings, password } = await accessOf(bench.engine, 'db')
    bench.sql('drop view items; drop table item')
    const between = await cutter(settings.port)
    try {
      await changeReach(bench.engine, id, { settings: { ...settings, port: between.port }, password })
      const { run, receipts } = await bench.restore(vessel, point, { picks: [bench.path('public', 'item')] })
      expect(between.cuts()).toBe(1)
      expect(bench.sql('select count(*) from item')).toBe('100')
      expect(run.error).toBeNull()
      expect(receipts.find(({ path }) => path.endsWith('/item'))).toMatchObject({ outcome: 'made', equal: true })
    } finally {
      await changeReach(bench.engine, id, { settings, password })
      between.close()
    }
  })
})

describe('a plan that was agreed to', () => {
  it('is carried out as it was, or not at all', async () => {
    const vessel = await bench.vessel('Agreed')
    const point = await bench.backup(vessel)
    const wish = wishOf({ picks: [bench.path('public', 'item')] })
    const plan = async () => planDigest(await planAll(bench.engine, await openPoint(bench.engine, point, noRows), wish))
    const agreed = await plan()
    // Meanwhile somebody gives the table another column, so that it would be dropped and made again.
    bench.sql('alter table item add column precious text')
    bench.sql(`update item set precious = 'p'`)
    const run = await bench.run('restore', vessel, { point, wish, reason: 'a test', agreed })
    expect(run).toMatchObject({ state: 'failed', error: { code: 'plan_changed', touched: 'Nothing was changed.' } })
    expect(bench.sql(`select count(*) from item where precious = 'p'`)).toBe('100')
    const again = { point, wish, reason: 'a new look', agreed: await plan() }
    expect((await bench.run('restore', vessel, again)).state).toBe('done')
  })
})

describe('the record of a point that a run could not be told about', () => {
  it('goes where the catalog did not take it, and stays where it did or just does', async () => {
    const point = await bench.backup(await bench.vessel('Recorded'))
    const { db } = bench.engine
    const store = await openStore(bench.engine, { name: 'dry-dock' })
    const record = await store.readPoint(point)
    expect(await store.dropUnlessTaken(point)).toBe(false)
    expect(await store.readPoint(point)).toEqual(record)
    const [never, late] = [randomUUID(), randomUUID()]
    for (const id of [never, late]) await store.writePoint({ ...record, id })
    expect(await store.dropUnlessTaken(never)).toBe(true)
    await expect(store.readPoint(never)).rejects.toThrow()
    // The connection broke, and the catalog is still at it.
    let end = () => {}
    const going = new Promise<void>((resolve) => (end = resolve))
    let begun = () => {}
    const begins = new Promise<void>((resolve) => (begun = resolve))
    const taken = db.transaction().execute(async (tx) => {
      await store.pointCommitted(tx, late)
      begun()
      await going
    })
    await begins
    const dropped = store.dropUnlessTaken(late)
    expect(await Promise.race([dropped, new Promise((resolve) => setTimeout(resolve, 300, 'waits'))])).toBe('waits')
    end()
    await taken
    expect(await dropped).toBe(false)
    expect(await store.readPoint(late)).toMatchObject({ id: late })
    await store.remove([pointPath(late)])
  })
})

describe('what a restore proves', () => {
  it('is told of just what was read back and found equal', async () => {
    const vessel = await bench.vessel('Proof')
    const point = await bench.backup(vessel)
    const picks = [bench.path('public', 'item'), bench.path('public', 'items')]
    const proven = async () => (await standingOfVessel(bench.engine, vessel)).proven
    const linesOf = (receipts: { path: string; outcome: string; equal: boolean | null }[]) =>
      receipts.map(({ path, outcome, equal }) => [path.split('/').at(-1), outcome, equal])
    expect(await proven()).toBeNull()

    const beside = { mode: 'beside' as const, schema: 'copy', prefix: '', suffix: '', names: {} }
    const copied = await bench.restore(vessel, point, { picks, into: beside })
    // Under another name a view is written otherwise, so nothing is compared with it.
    expect(linesOf(copied.receipts)).toEqual(
      expect.arrayContaining([
        ['item', 'renamed', true],
        ['items', 'renamed', null],
      ]),
    )
    // The schema of the copy is the third.
    expect(await proven()).toMatchObject({ run: copied.run.id, things: 3, equal: 1 })

    bench.sql('drop view items; drop table item')
    const back = await bench.restore(vessel, point, { picks })
    expect(linesOf(back.receipts)).toEqual(
      expect.arrayContaining([
        ['item', 'made', true],
        ['items', 'made', true],
        ['definitions of what was restored', 'compared', true],
      ]),
    )
    expect(await proven()).toMatchObject({ run: back.run.id, things: 2, equal: 2 })

    bench.sql('drop view items')
    const structure = await bench.restore(vessel, point, { picks: [picks[1]!], what: 'structure' })
    expect(linesOf(structure.receipts)).toContainEqual(['items', 'made', true])
  })
})
