import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { discoverSource } from '../../engine/catalog/sources'
import type { Vessel } from '../../engine/catalog/vessels'
import { openLosses, wasMeant } from '../../engine/watch/losses'
import type { Loss } from '../../engine/watch/loss'
import { Workbench } from '../support/engine'

// Whoever loses much at once is told of it once, with a way back that picks all of it and nothing else.

let bench: Workbench
let vessel: Vessel

beforeAll(async () => {
  bench = await Workbench.open(`
    create schema sales; create schema loyalty; create schema archive;
    create table sales.leg (id int primary key); create table sales.fare (id int primary key); create table sales.stays (id int primary key);
    create table loyalty.member (id int primary key); create table loyalty.voucher (id int primary key);
    do $$ begin for i in 1..300 loop execute format('create table archive.t%s (id int primary key)', i); end loop; end $$`)
  vessel = await bench.vessel('Sales')
  await discover()
})
afterAll(() => bench?.close())

async function discover(): Promise<void> {
  const { id } = await bench.engine.db.selectFrom('source').select('id').where('name', '=', 'db').executeTakeFirstOrThrow()
  await discoverSource(bench.engine, id)
}
async function losses(): Promise<Loss[]> {
  await discover()
  return openLosses(bench.engine)
}
const link = (point: string, query: string) => `/vessels/${vessel.slug}/restore?point=${point}&${query}`
const path = (...names: string[]) => encodeURIComponent(bench.path(...names))

describe('what is gone from a database', () => {
  let first: string
  let second: string

  it('is not told before anything was protected', async () => {
    bench.sql('create table sales.brief (id int); drop table sales.brief')
    expect(await losses()).toEqual([])
    first = await bench.backup(vessel)
  })

  it('is named by itself, with the point that holds it', async () => {
    bench.sql('drop table sales.leg')
    expect(await losses()).toMatchObject([
      {
        level: 'error',
        what: `sales.leg is gone from db / ${bench.database}.`,
        ways: [{ kind: 'point', to: link(first, `pick=${path('sales', 'leg')}`) }],
      },
    ])
    second = await bench.backup(vessel)
  })

  it('is told by the point from which it would come', async () => {
    bench.sql('drop table sales.fare')
    expect((await losses()).flatMap(({ ways }) => ways.map(({ to }) => to)).sort()).toEqual(
      [link(first, `pick=${path('sales', 'leg')}`), link(second, `pick=${path('sales', 'fare')}`)].sort(),
    )
  })

  it('is meant by itself, and not what went from the same place at another time', async () => {
    const fare = (await losses()).find(({ what }) => what.startsWith('sales.fare'))!
    await wasMeant(bench.engine, fare.key)
    expect((await losses()).map(({ what }) => what)).toEqual([`sales.leg is gone from db / ${bench.database}.`])
  })

  it('is told once when a schema goes with all that is in it', async () => {
    bench.sql('drop schema archive cascade')
    const [loss, ...others] = (await losses()).filter(({ what }) => what.includes('archive'))
    expect(loss).toMatchObject({
      what: `The schema archive is gone from db / ${bench.database}.`,
      ways: [{ to: link(second, `pick=${path('archive')}`) }],
    })
    expect(others).toEqual([])
  })

  it('is told together when several tables of a schema are, and comes back as that', async () => {
    bench.sql('create table loyalty.stays (id int); drop table loyalty.member; drop table loyalty.voucher')
    const [loss] = (await losses()).filter(({ what }) => what.includes('loyalty'))
    expect(loss).toMatchObject({
      level: 'error',
      what: `2 tables of loyalty are gone from db / ${bench.database}: member, voucher.`,
      ways: [{ to: link(second, `gone=${path('loyalty')}`) }],
    })
  })
})
