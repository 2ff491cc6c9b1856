import { afterAll, beforeAll, describe, expect, inject, it, vi } from 'vitest'
import { defaultLog } from '../../core/plan/definition'
import { addSource } from '../../engine/catalog/sources'
import { addVessel, type Vessel } from '../../engine/catalog/vessels'
import { LogBench } from '../support/log'
import { network, type Network } from '../support/network'

// A network that swallows everything: connections stay open, and nobody says anything any more.

let log: LogBench
let between: Network
let far: Vessel
let database: string
const follower = (vessel: Vessel) =>
  log.bench.engine.db.selectFrom('follower').selectAll().where('vessel_id', '=', vessel.id).executeTakeFirst()

beforeAll(async () => {
  log = await LogBench.open('create table near (id int primary key)')
  database = `${log.bench.database}_far`
  log.bench.server.psql('postgres', `create database ${database}`)
  log.bench.server.psql(database, 'create table item (id int primary key); insert into item values (1)')
  between = await network(log.bench.server.port)
  await addSource(log.bench.engine, { name: 'far', password: inject('password'), settings: { ...log.bench.settings, port: between.port } })
  far = await addVessel(log.bench.engine, 'Far', {
    rules: [{ id: 'a', act: 'take', kind: 'database', pattern: `far/${database}` }],
    store: 'dry-dock',
    promises: { couldLose: null, backWithin: null },
    readers: 1,
    log: defaultLog(true),
  })
  await log.bench.backup(far)
  await log.bench.backup(log.vessel)
  log.follow()
  await log.flush()
  await vi.waitFor(async () => expect((await follower(far))!.caught_up_position).not.toBeNull(), { timeout: 20_000, interval: 100 })
})
afterAll(async () => {
  await log?.unfollow()
  const row = await follower(far)
  await log?.close()
  if (row)
    log.bench.server.psql(
      'postgres',
      `select pg_drop_replication_slot(slot_name) from pg_replication_slots where slot_name = '${row.slot}' and not active`,
    )
  between?.close()
})

describe('a source that fell silent', () => {
  it('is noticed within a minute, keeps no other log waiting, and is followed on without a hole when it answers again', async () => {
    between.silence()
    const silentAt = Date.now()
    // Other logs come up, and new ones begin, as if nothing had happened.
    for (let i = 0; i < 3; i++) {
      log.bench.sql(`insert into near values (${i})`)
      const moment = log.moment('public.near')
      const from = Date.now()
      await log.flush()
      expect(Date.now() - from).toBeLessThan(8000)
      await log.holds(moment)
      await new Promise((resolve) => setTimeout(resolve, 3000))
    }
    await vi.waitFor(async () => expect((await follower(far))!.state).toBe('stalled'), { timeout: 75_000, interval: 300 })
    expect(Date.now() - silentAt).toBeLessThan(75_000)
    log.bench.server.psql(database, 'insert into item values (2)')
    between.recover()
    const position = log.bench.server.psql(database, 'select pg_current_wal_lsn()')
    await vi.waitFor(
      async () => {
        const row = (await follower(far))!
        expect(row.state).toBe('following')
        expect(
          log.bench.sql(
            `select '${row.position}'::pg_lsn >= '${position}'::pg_lsn or '${row.caught_up_position}'::pg_lsn >= '${position}'::pg_lsn`,
          ),
        ).toBe('t')
      },
      { timeout: 60_000, interval: 300 },
    )
    expect(await log.bench.engine.db.selectFrom('chain_break').select('id').where('vessel_id', '=', far.id).execute()).toEqual([])
  }, 240_000)
})
