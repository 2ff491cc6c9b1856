import { afterEach, beforeEach, describe, expect, it } from 'vitest'
import { positionOf } from '../../core/chain/position'
import { defaultRetention } from '../../core/plan/retention'
import { addRun } from '../../engine/catalog/runs'
import { lanesOf } from '../../engine/catalog/lifeline'
import { saveDefinition, vesselBySlug, type Vessel } from '../../engine/catalog/vessels'
import type { Engine } from '../../engine/engine'
import { deleteLog, logDeletionOf } from '../../engine/retention/log-deletion'
import { keptLifeline } from '../../engine/retention/views'
import { perform } from '../../engine/runs/runner'
import { LogBench, type Moment } from '../support/log'

// How long every moment of a log stays. The clock of the installation is moved; the log is the source's own.

const HOUR = 3_600_000
const DATA =
  'create schema sales; create table sales.leg (id int primary key, v text); insert into sales.leg select g, md5(g::text) from generate_series(1, 500) g'

let log: LogBench
let aheadMs: number
beforeEach(async () => {
  log = await LogBench.open(DATA, { everySeconds: 10 })
  aheadMs = 0
})
afterEach(() => log.close())

async function keep(logHours: number): Promise<Vessel> {
  const { slug } = log.vessel
  const vessel = await vesselBySlug(log.bench.engine, slug)
  const retention = { ...defaultRetention(), rules: [{ kind: 'last' as const, points: 1 }], atLeast: 1, logHours }
  await saveDefinition(log.bench.engine, slug, vessel.version, { ...vessel.definition, retention })
  return vesselBySlug(log.bench.engine, slug)
}
async function prune(vessel: Vessel) {
  const clock = { now: () => new Date(Date.now() + aheadMs), ofSource: (at: Date) => at }
  const engine = Object.assign(Object.create(log.bench.engine) as Engine, { clock })
  const id = await addRun(engine, { kind: 'prune', vessel, startedBy: 'a test', params: { store: 'dry-dock' } })
  await perform(engine, id)
  const run = await log.bench.record(id)
  if (run.state !== 'done') throw new Error(JSON.stringify([run.error, await log.bench.messages(id)]))
  return run.outcome as { points: number; segments: number }
}
const backup = (what: string) =>
  log.bench.run('backup', log.vessel, { what, plan: { line: 'a', name: 'a', dueAt: new Date().toISOString(), place: 1, of: 1 } })
async function change(v: string): Promise<Moment> {
  log.bench.sql(`update sales.leg set v = '${v}' where id % 7 = 0; insert into sales.leg select max(id) + 1, '${v}' from sales.leg`)
  const moment = log.moment('sales.leg')
  await log.flush()
  return moment
}

describe('the log of a vessel', () => {
  it('stays for as long as was said, with the points in it, and from the newest full on; then only points stay', async () => {
    await backup('full')
    log.follow()
    const early = await change('early')
    await backup('differential')
    const between = await change('between')
    await backup('full')
    const late = await change('late')
    const vessel = await keep(1)
    expect(await prune(vessel)).toMatchObject({ points: 0, segments: 0 })
    for (const moment of [early, between, late]) await log.holds(moment)
    const before = (await log.segments()).length

    aheadMs = 2 * HOUR
    const { points, segments } = await prune(vessel)
    expect([points, segments > 0, (await log.segments()).length]).toEqual([2, true, before - segments])
    await log.holds(late)
    await expect(log.holds(early)).rejects.toMatchObject({ code: 'not_restorable' })
    const { points: there } = await lanesOf(log.bench.engine, vessel.id)
    expect(there).toHaveLength(1)

    // The log goes on from there: what is made of it later is as the source was.
    const next = await change('next')
    const { outcome, error } = await backup('differential')
    expect([error, (outcome as { point: string }).point]).toEqual([null, expect.any(String)])
    await log.holds(next)
    await log.holds(late)
    expect((await log.bench.run('verify', vessel, { store: 'dry-dock' })).state).toBe('done')
  })

  it('is deleted in a stretch, with the moments in it, and a full begins it anew', async () => {
    const { engine } = log.bench
    await backup('full')
    log.follow()
    const before = await change('before')
    const secret = await change('secret')
    const after = await change('after')
    // Within the segment that tells of it.
    const secretAt = positionOf(secret.position)!
    const { at } = (await log.segments()).find(({ position }) => positionOf(position)! >= secretAt)!
    const stretch = { from: new Date(at.getTime() - 1), to: new Date(at.getTime() - 1) }
    const told = { reason: 'it holds what must not be kept', by: 'Ada' }
    const { segments, lost } = await logDeletionOf(engine, log.vessel.slug, stretch)
    expect(segments).toHaveLength(1)
    expect(lost.some(({ from, to }) => from <= after.at && after.at <= to)).toBe(true)
    await expect(deleteLog(engine, log.vessel.slug, stretch, { ...told, segments: 2 })).rejects.toMatchObject({
      code: 'log_deletion_changed',
    })
    const files = (await log.segments()).length
    await deleteLog(engine, log.vessel.slug, stretch, { ...told, segments: 1 })
    expect((await log.segments()).length).toBe(files - 1)
    await log.holds(before)
    for (const moment of [secret, after]) await expect(log.holds(moment)).rejects.toMatchObject({ code: 'not_restorable' })
    // What it would lead to is not made up, and what begins it anew leads on.
    expect((await backup('differential')).error).toMatchObject({ code: 'chain_broken' })
    await backup('full')
    const next = await change('next')
    expect((await backup('differential')).state).toBe('done')
    await log.holds(next)
    const { breaks } = await keptLifeline(engine, log.vessel)
    expect(breaks.find(({ kind }) => kind === 'deleted')).toMatchObject({ reason: expect.stringContaining('Ada'), to: expect.any(Date) })
  })

  it('stays while its first full is still made', async () => {
    await backup('full')
    log.follow()
    const moment = await change('first')
    const vessel = await keep(0)
    aheadMs = 100 * HOUR
    const waiting = await addRun(log.bench.engine, { kind: 'backup', vessel, startedBy: 'a test', params: { what: 'full' } })
    expect(await prune(vessel)).toMatchObject({ points: 0, segments: 0 })
    await perform(log.bench.engine, waiting)
    await log.holds(moment)
  })
})
