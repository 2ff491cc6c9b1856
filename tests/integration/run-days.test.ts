import { randomUUID } from 'node:crypto'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { runDays, runFigures } from '../../engine/catalog/run-days'
import type { Vessel } from '../../engine/catalog/vessels'
import { Workbench } from '../support/engine'

// Runs counted day by day, by the calendar of whoever looks.

let bench: Workbench
let vessel: Vessel
beforeAll(async () => {
  bench = await Workbench.open('create table leg (id int primary key)')
  vessel = await bench.vessel('Ferries')
})
afterAll(() => bench?.close())

async function ran(at: string, state: string, more: Record<string, unknown> = {}): Promise<string> {
  const id = randomUUID()
  const from = new Date(at)
  const row = { id, kind: 'backup', vessel_id: vessel.id, vessel_version: 1, state, started_by: 'a test', params: '{}', counters: '{}' }
  const times = { at: from, created_at: from, started_at: new Date(from.getTime() + 4000), finished_at: new Date(from.getTime() + 60_000) }
  await bench.engine.db
    .insertInto('run')
    .values({ ...row, ...times, ...more } as never)
    .execute()
  return id
}
const step = (run_id: string, ordinal: number, kind: string, from: string, to: string | null) =>
  bench.engine.db
    .insertInto('run_step')
    .values({
      run_id,
      ordinal,
      kind,
      member: 'a',
      title: 'b',
      state: 'done',
      started_at: new Date(from),
      finished_at: to && new Date(to),
      counters: '{}',
    } as never)
    .execute()

const SPAN = { since: new Date('2026-10-01T00:00:00Z'), until: new Date('2026-12-01T00:00:00Z') }

describe('runs by day', () => {
  it('are counted by the calendar of a zone, as it was then', async () => {
    // In the night in which the clock of Berlin is put back, and around its midnight.
    await ran('2026-10-24T22:30:00Z', 'done')
    await ran('2026-10-25T22:30:00Z', 'failed')
    await ran('2026-10-25T23:30:00Z', 'warned')
    await ran('2026-10-25T23:40:00Z', 'running', { finished_at: null })
    const none = { done: 0, warned: 0, failed: 0, cancelled: 0, open: 0, missed: 0 }
    expect(await runDays(bench.engine, { ...SPAN, zone: 'Europe/Berlin' })).toEqual([
      { ...none, day: '2026-10-25', done: 1, failed: 1 },
      { ...none, day: '2026-10-26', warned: 1, open: 1 },
    ])
    expect((await runDays(bench.engine, { ...SPAN, zone: 'UTC' })).map(({ day }) => day)).toEqual(['2026-10-24', '2026-10-25'])
    expect(await runDays(bench.engine, { ...SPAN, zone: 'UTC', kinds: ['restore'] })).toEqual([])
    // What looks after a store is none of the vessel that it is told with.
    await ran('2026-10-27T10:00:00Z', 'done', { kind: 'prune', params: '{"store": "dry-dock"}' })
    expect((await runDays(bench.engine, { ...SPAN, zone: 'UTC', vessel: 'ferries' })).map(({ day }) => day)).not.toContain('2026-10-27')
    expect((await runDays(bench.engine, { ...SPAN, zone: 'UTC' })).map(({ day }) => day)).toContain('2026-10-27')
    // What was due and not run stands there as well, time by time.
    const due = { id: randomUUID(), vessel_id: vessel.id, line: 'a', name: 'a', outcome: 'missed', settled: true, times: 2 }
    const at = new Date('2026-10-28T02:00:00Z')
    await bench.engine.db
      .insertInto('due')
      .values({ ...due, due_at: at, last_due_at: at, decided_at: at } as never)
      .execute()
    expect((await runDays(bench.engine, { ...SPAN, zone: 'UTC' })).at(-1)).toEqual({ ...none, day: '2026-10-28', missed: 2 })
    expect((await runDays(bench.engine, { ...SPAN, zone: 'UTC', kinds: ['prune'] })).map(({ day }) => day)).toEqual(['2026-10-27'])
  })

  it('tell where their time went: what went on side by side counts once, and what has not ended not at all', async () => {
    const at = (seconds: number) => new Date(Date.parse('2026-11-03T10:00:00Z') + seconds * 1000).toISOString()
    const counters = JSON.stringify({ bytes: 5000, stored: 10 })
    const run = await ran(at(0), 'done', { counters, outcome: '{"stored": 700}' })
    await step(run, 0, 'structure', at(4), at(6))
    await step(run, 1, 'table', at(6), at(26))
    await step(run, 2, 'table', at(10), at(30))
    await step(run, 3, 'table', at(40), at(45))
    await step(run, 4, 'manifest', at(45), at(46))
    await step(run, 5, 'unheard of', at(46), at(47))
    await step(run, 6, 'table', at(50), null)
    const figures = await runFigures(bench.engine, { ...SPAN, since: new Date('2026-11-03T00:00:00Z'), zone: 'UTC' })
    const seconds = { wait: 4, structure: 2, rows: 29, record: 1, other: 1 }
    expect(figures).toEqual([{ day: '2026-11-03', runs: 1, read: 5000, stored: 700, seconds }])
  })
})
