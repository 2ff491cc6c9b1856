import { randomUUID } from 'node:crypto'
import { readdirSync, statSync } from 'node:fs'
import { join } from 'node:path'
import { sql } from 'kysely'
import { afterAll, afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { defaultRetention, type Retention } from '../../core/plan/retention'
import { addRun, cancelWaiting } from '../../engine/catalog/runs'
import { discoverSource } from '../../engine/catalog/sources'
import { openStore } from '../../engine/catalog/stores'
import { saveDefinition, vesselBySlug, type Vessel } from '../../engine/catalog/vessels'
import type { Engine } from '../../engine/engine'
import { lastLapsing } from '../../engine/retention/lapsing-soon'
import { tidyUp } from '../../engine/runs/orphans'
import { RunContext } from '../../engine/runs/context'
import { GivingWay } from '../../engine/runs/give-way'
import { perform } from '../../engine/runs/runner'
import { FolderBackend } from '../../engine/store/folder'
import { packPath } from '../../engine/store/pack'
import { ContentWriter } from '../../engine/store/writer'
import { Workbench } from '../support/engine'
import { killWorker, startWorker } from '../support/worker'

// What is stored goes when its time is over, and nothing else does: whoever writes, whatever fails in between.

const HOUR = 3_600_000
const DAY = 24 * HOUR
/** Every row is its own, so that what one point alone holds is really its own. */
const DATA = `create schema sales; create table sales.leg (id int primary key, note text);
  insert into sales.leg select g, md5(g || '-0') || md5(g || '+0') from generate_series(1, 4000) g`
const LEGS = 'select count(*), sum(hashtext(l::text)::bigint) from sales.leg l'

let bench: Workbench
let vessel: Vessel
let aheadMs = 0
/** Which day it is: each has rows of its own. */
let today = 0
beforeEach(async () => {
  bench = await Workbench.open(DATA)
  vessel = await keep(await bench.vessel(), { rules: [{ kind: 'last', points: 3 }], atLeast: 1, logHours: 0 })
  aheadMs = 0
})
afterEach(async () => {
  vi.restoreAllMocks()
  await bench.close()
})
afterAll(() => vi.useRealTimers())

async function keep(of: Vessel, more: Partial<Retention>): Promise<Vessel> {
  const retention = { ...defaultRetention(), ...more }
  await saveDefinition(bench.engine, of.slug, of.version, { ...of.definition, retention })
  return vesselBySlug(bench.engine, of.slug)
}

/** The engine at another time. */
function later(): Engine {
  const clock = { now: () => new Date(Date.now() + aheadMs), ofSource: (at: Date) => new Date(at.getTime() + aheadMs) }
  return Object.assign(Object.create(bench.engine) as Engine, { clock })
}
async function run(kind: 'backup' | 'prune' | 'verify', params: Record<string, unknown>, of = vessel) {
  const id = await addRun(later(), { kind, vessel: of, startedBy: 'a test', params })
  while ((await perform(later(), id)) === 'later') await new Promise((resolve) => setTimeout(resolve, 50))
  return bench.record(id)
}
const prune = (more: Record<string, unknown> = {}) => run('prune', { store: 'dry-dock', patienceMs: 20_000, ...more })
const planned = (what: string, place = 1) => ({ what, plan: { line: 'a', name: 'nightly', dueAt: new Date().toISOString(), place, of: 1 } })

/** A point a day, each of rows of its own; returns what each held. */
async function days(count: number, what: (day: number) => string = () => 'full'): Promise<{ point: string; legs: string }[]> {
  const made: { point: string; legs: string }[] = []
  for (let day = 1; day <= count; day++) {
    aheadMs += DAY
    today++
    bench.sql(`update sales.leg set note = md5(id || '-${today}') || md5(id || '+${today}')`)
    const { outcome, error } = await run('backup', planned(what(day), day))
    if (!outcome) throw new Error(JSON.stringify(error))
    made.push({ point: (outcome as { point: string }).point, legs: bench.sql(LEGS) })
  }
  return made
}
const pointsThere = async () =>
  (await bench.engine.db.selectFrom('point').select('id').where('vessel_id', '=', vessel.id).orderBy('at').execute()).map(({ id }) => id)
const files = (folder: string) => readdirSync(join(bench.place, folder)).sort()
const bytesThere = () => files('packs').reduce((sum, name) => sum + statSync(join(bench.place, 'packs', name)).size, 0)

/** Everything that the catalog knows is there and can be read, nothing else lies there, and every point comes back as it was. */
async function isWhole(made: { point: string; legs: string }[]): Promise<void> {
  const { state, error } = await run('verify', { store: 'dry-dock' })
  expect([state, error]).toEqual(['done', null])
  const packs = await bench.engine.db.selectFrom('pack').select('id').execute()
  expect(files('packs')).toEqual(packs.map(({ id }) => `${id}.pack`).sort())
  expect(files('points')).toEqual((await pointsThere()).map((id) => `${id}.point`).sort())
  expect(await bench.engine.db.selectFrom('announced_file').selectAll().execute()).toEqual([])
  expect(await bench.engine.db.selectFrom('live_chunk').selectAll().execute()).toEqual([])
  for (const { point, legs } of made) {
    const { run } = await bench.restore(vessel, point, { picks: [bench.path('sales', 'leg')] })
    expect([run.state, bench.sql(LEGS)]).toEqual(['done', legs])
  }
}

describe('a prune', () => {
  it('lets go what no rule keeps, tells of it before and after, and the store becomes smaller', async () => {
    const made = await days(7)
    const before = bytesThere()
    const dry = await prune({ dry: true })
    expect(dry.outcome).toMatchObject({ dry: true, points: 4 })
    expect(await pointsThere()).toHaveLength(7)
    const { state, outcome, id } = await prune()
    expect([state, outcome]).toEqual(['done', expect.objectContaining({ points: 4 })])
    expect(await pointsThere()).toEqual(made.slice(4).map(({ point }) => point))
    // Of seven points of the same size, each of its own rows, four are gone.
    expect(bytesThere() / before).toBeLessThan(3.3 / 7)
    expect(before - bytesThere()).toBe((outcome as { freed: number }).freed)
    expect(Math.abs((outcome as { freed: number }).freed / (dry.outcome as { freed: number }).freed - 1)).toBeLessThan(0.05)
    const gone = await bench.engine.db.selectFrom('gone_point').selectAll().orderBy('at').execute()
    expect(gone.map(({ id: point, by, run_id: by_run }) => [point, by, by_run])).toEqual(
      made.slice(0, 4).map(({ point }) => [point, 'retention', id]),
    )
    await isWhole(made.slice(4))
  })

  it('keeps a whole cycle until nothing needs any of it', async () => {
    const made = await days(5, (day) => (day === 1 || day === 5 ? 'full' : 'differential'))
    await prune()
    // The last three are two differentials and a full: the full that they build on stays with them.
    expect(await pointsThere()).toEqual([made[0]!, ...made.slice(2)].map(({ point }) => point))
    vessel = await keep(vessel, { rules: [{ kind: 'last', points: 1 }], atLeast: 1, logHours: 0 })
    await prune()
    expect(await pointsThere()).toEqual([made[4]!.point])
    await isWhole(made.slice(4))
  })

  it('takes nothing while something of the vessel is read, and says so', async () => {
    await days(5)
    const reading = await addRun(bench.engine, { kind: 'restore', vessel, startedBy: 'a test', params: {} })
    const { id, outcome } = await prune()
    expect(outcome).toMatchObject({ points: 0 })
    expect(await bench.messages(id)).toContainEqual(expect.stringContaining('a restore goes on'))
    await bench.engine.db.updateTable('run').set({ state: 'failed' }).where('id', '=', reading).execute()
    expect((await prune()).outcome).toMatchObject({ points: 2 })
  })

  it('keeps what is pinned, and what a person backed up, as long as was said', async () => {
    const { outcome } = await run('backup', { what: 'full', keepDays: 4 })
    const byHand = (outcome as { point: string }).point
    const made = await days(5)
    const pin = JSON.stringify({ reason: 'the audit', until: null, by: 'a person', at: new Date().toISOString() })
    await bench.engine.db.updateTable('point').set({ pin }).where('id', '=', made[0]!.point).execute()
    aheadMs -= 2 * DAY
    await prune()
    expect(await pointsThere()).toEqual([byHand, made[0]!.point, ...made.slice(2).map(({ point }) => point)])
    aheadMs += 2 * DAY
    await prune()
    expect(await pointsThere()).toEqual([made[0]!.point, ...made.slice(2).map(({ point }) => point)])
  })

  it('keeps the last point that holds what is gone for its term, and tells before it goes', async () => {
    const { id } = await bench.engine.db.selectFrom('source').select('id').executeTakeFirstOrThrow()
    bench.sql('create table sales.tale (id int primary key); insert into sales.tale values (1)')
    await discoverSource(later(), id)
    const [held] = await days(1)
    bench.sql('drop table sales.tale')
    aheadMs += HOUR
    await discoverSource(later(), id)
    await days(5)
    await prune()
    expect(await pointsThere()).toHaveLength(4)
    expect((await pointsThere())[0]).toBe(held!.point)
    expect(await lastLapsing(later())).toEqual([])
    aheadMs += 80 * DAY
    expect((await lastLapsing(later())).map(({ what }) => what)).toEqual([
      expect.stringMatching(/^Bookings: the last point that holds tale, which is gone, goes in \d days\.$/),
    ])
    await prune()
    expect(await pointsThere()).toHaveLength(4)
    aheadMs += 10 * DAY
    await prune()
    expect(await pointsThere()).toHaveLength(3)
  })

  it('puts the rest of half-empty files together, and a store that is full only loses what nothing needs', async () => {
    const made = await days(1)
    // A second table, most of which is the same in all points that follow.
    bench.sql(
      `create table sales.tale (id int primary key, t text); insert into sales.tale select g, repeat(md5(g::text), 20) from generate_series(1, 1500) g`,
    )
    const mixed = await days(5)
    const full = vi.spyOn(FolderBackend.prototype, 'space').mockResolvedValue({ free: 0, total: 1e9 })
    const before = bytesThere()
    const first = await prune()
    expect([first.state, await bench.messages(first.id)]).toEqual(['warned', expect.arrayContaining([expect.stringContaining('no room')])])
    const between = bytesThere()
    expect(between).toBeLessThan(before)
    full.mockRestore()
    expect((await prune()).state).toBe('done')
    expect(bytesThere()).toBeLessThan(between)
    await isWhole(mixed.slice(2))
    expect(made).toHaveLength(1)
  })

  it('removes nothing where it can’t read what is needed', async () => {
    const made = await days(5)
    const { manifest } = await bench.engine.db
      .selectFrom('artifact')
      .select('manifest')
      .orderBy('at', 'desc')
      .limit(1)
      .executeTakeFirstOrThrow()
    const place = await bench.engine.db
      .selectFrom('chunk')
      .selectAll()
      .where('name', '=', Buffer.from(manifest[0]!, 'hex'))
      .executeTakeFirstOrThrow()
    const read = FolderBackend.prototype.read
    vi.spyOn(FolderBackend.prototype, 'read').mockImplementation(async function (this: FolderBackend, path, position, length) {
      const bytes = await read.call(this, path, position, length)
      if (path === packPath(place.pack_id) && position <= Number(place.position) && position + length > Number(place.position))
        bytes[Number(place.position) - position + 60]! ^= 1
      return bytes
    })
    const packs = files('packs')
    const { state, error } = await prune()
    expect([state, error?.code]).toEqual(['failed', 'content_unknown'])
    expect(files('packs')).toEqual(packs)
    vi.restoreAllMocks()
    expect((await prune()).state).toBe('done')
    await isWhole(made.slice(2))
  })

  it('rests longer than it works while somebody backs up', async () => {
    const id = await addRun(bench.engine, { kind: 'prune', vessel, startedBy: 'a test', params: { store: 'dry-dock' } })
    const other = await addRun(bench.engine, { kind: 'backup', vessel, startedBy: 'a test' })
    const run = new RunContext(bench.engine, id, vessel.id)
    const rests = async () => {
      const way = new GivingWay(run)
      for (const until = performance.now() + 50; performance.now() < until;);
      const from = performance.now()
      await way.rest()
      return performance.now() - from
    }
    const set = (state: 'running' | 'cancelled') => bench.engine.db.updateTable('run').set({ state }).where('id', '=', other).execute()
    await set('running')
    expect(await rests()).toBeGreaterThan(200)
    await set('cancelled')
    await cancelWaiting(bench.engine, id)
  })

  it('waits while another one, or a verification, is at the same store', async () => {
    await days(5)
    const ids = await Promise.all(
      (['prune', 'prune', 'verify', 'prune'] as const).map((kind) =>
        addRun(later(), { kind, vessel, startedBy: 'a test', params: { store: 'dry-dock' } }),
      ),
    )
    const at: [string, string][] = []
    const carryOut = async (id: string) => {
      while ((await perform(later(), id)) === 'later') {
        at.push([id, (await bench.record(id)).waits_for ?? ''])
        await new Promise((resolve) => setTimeout(resolve, 20))
      }
    }
    await Promise.all(ids.map(carryOut))
    const runs = await Promise.all(ids.map((id) => bench.record(id)))
    expect(runs.map(({ state }) => state)).toEqual(['done', 'done', 'done', 'done'])
    expect(at[0]![1]).toContain('looks after dry-dock')
    const spans = runs.map(({ started_at: from, finished_at: to }) => [from!.getTime(), to!.getTime()]).sort((a, b) => a[0]! - b[0]!)
    for (const [i, [from]] of spans.slice(1).entries()) expect(from).toBeGreaterThanOrEqual(spans[i]![1]!)
  })
})

describe('content that somebody comes to rest upon while it is pruned', () => {
  /** Content that nothing needs any more, in a pack of its own, and somebody who puts it once more. */
  async function deadContent(): Promise<{ name: string; bytes: () => Uint8Array<ArrayBuffer> }> {
    await days(1)
    const store = await openStore(bench.engine, { name: 'dry-dock' })
    const bytes = () => new Uint8Array(Buffer.from(`dead ${'content '.repeat(200)}`))
    const writer = new ContentWriter(store, randomUUID())
    const { name } = await writer.put(bytes())
    await writer.flush()
    await bench.engine.db.transaction().execute((tx) => writer.commit(tx))
    return { name, bytes }
  }
  /** A segment of log that rests upon it, as nothing else does. */
  const restUpon = async (writer: ContentWriter, name: string) => {
    const store = await openStore(bench.engine, { name: 'dry-dock' })
    const text = new Uint8Array(Buffer.from(JSON.stringify({ format: 1, kind: 'log', chunks: [{ name }], structure: null })))
    const { name: manifest } = await writer.put(text)
    await writer.flush()
    const source = await bench.engine.db.selectFrom('source').select('id').executeTakeFirstOrThrow()
    const now = later().clock.now()
    await bench.engine.db.transaction().execute(async (tx) => {
      await writer.commit(tx)
      const place = { from_position: '0/1', position: '0/2', from_at: now, at: now, era: 'x' }
      const of = {
        vessel_id: vessel.id,
        source_id: source.id,
        store_id: store.id,
        member: bench.path(),
        kind: 'log' as const,
        parent: null,
      }
      const sizes = { rows: 0, bytes: 0, stored: 0, manifest: JSON.stringify([manifest]) }
      await tx
        .insertInto('artifact')
        .values({ id: randomUUID(), run_id: randomUUID(), ...of, ...place, ...sizes })
        .execute()
    })
  }
  const isThere = async (name: string) => {
    const store = await openStore(bench.engine, { name: 'dry-dock' })
    return Buffer.from(await store.read(name))
      .toString()
      .startsWith('dead content')
  }
  const condemned = () => bench.engine.db.selectFrom('pack').select('id').where('condemned_by', 'is not', null).execute()

  it('goes where nobody does', async () => {
    const { name } = await deadContent()
    await prune()
    await expect(isThere(name)).rejects.toMatchObject({ code: 'content_missing' })
  })

  it('stays where somebody had found it before: he is waited for, and what he commits is looked at', async () => {
    const { name, bytes } = await deadContent()
    const store = await openStore(bench.engine, { name: 'dry-dock' })
    const writer = new ContentWriter(store, randomUUID())
    expect(await writer.put(bytes())).toEqual({ name, stored: 0 })
    const id = await addRun(later(), { kind: 'prune', vessel, startedBy: 'a test', params: { store: 'dry-dock', patienceMs: 30_000 } })
    const pruning = perform(later(), id)
    await vi.waitFor(async () => expect(await condemned()).not.toEqual([]), { timeout: 20_000, interval: 20 })
    await restUpon(writer, name)
    await pruning
    expect((await bench.record(id)).state).toBe('done')
    expect(await isThere(name)).toBe(true)
    expect(await condemned()).toEqual([])
  })

  it('stays for as long as he is not done, and says so; the next prune goes on', async () => {
    const { name, bytes } = await deadContent()
    const store = await openStore(bench.engine, { name: 'dry-dock' })
    const writer = new ContentWriter(store, randomUUID())
    await writer.put(bytes())
    const { state, id } = await prune({ patienceMs: 100 })
    expect([state, await bench.messages(id)]).toEqual(['warned', [expect.stringContaining('still writes')]])
    expect(await isThere(name)).toBe(true)
    await writer.discard()
    await prune()
    await expect(isThere(name)).rejects.toMatchObject({ code: 'content_missing' })
  })

  it('is stored anew by whoever comes after it was condemned', async () => {
    const { name, bytes } = await deadContent()
    const store = await openStore(bench.engine, { name: 'dry-dock' })
    const older = new ContentWriter(store, randomUUID())
    await older.known([name])
    await prune({ patienceMs: 100 })
    const writer = new ContentWriter(store, randomUUID())
    expect((await writer.put(bytes())).stored).toBeGreaterThan(0)
    await restUpon(writer, name)
    await older.discard()
    await prune()
    expect(await isThere(name)).toBe(true)
  })

  it('is refused to whoever slept through all of it', async () => {
    const { name, bytes } = await deadContent()
    const store = await openStore(bench.engine, { name: 'dry-dock' })
    const writer = new ContentWriter(store, randomUUID())
    await writer.put(bytes())
    await sql`update content_writer set heard_at = now() - interval '10 minutes'`.execute(bench.engine.db)
    expect((await prune()).state).toBe('done')
    await expect(restUpon(writer, name)).rejects.toMatchObject({ code: 'content_gone' })
  })
})

describe('a prune that ends in the middle', () => {
  /** Six points of which three go, with files that are emptied in part. */
  async function halfEmpty() {
    const made = await days(1)
    bench.sql(
      `create table sales.tale (id int primary key, t text); insert into sales.tale select g, repeat(md5(g::text), 20) from generate_series(1, 1500) g`,
    )
    return [...made, ...(await days(4))]
  }

  it('leaves every point whole, whatever it does when its store goes away, and the next one finishes', { timeout: 240_000 }, async () => {
    const made = (await halfEmpty()).slice(2)
    const { commit, remove } = { commit: FolderBackend.prototype.create, remove: FolderBackend.prototype.remove }
    let isDone = false
    for (let last = 0; !isDone; last++) {
      let steps = 0
      const away = () => {
        if (steps++ >= last) throw new Error('the disk is gone')
      }
      vi.spyOn(FolderBackend.prototype, 'create').mockImplementation(async function (this: FolderBackend, path) {
        away()
        const file = await commit.call(this, path)
        return { ...file, commit: async () => (away(), file.commit()) }
      })
      vi.spyOn(FolderBackend.prototype, 'remove').mockImplementation(async function (this: FolderBackend, path) {
        away()
        return remove.call(this, path)
      })
      const { state } = await prune()
      isDone = steps <= last
      vi.restoreAllMocks()
      expect(state === 'failed').toBe(!isDone)
      const { state: verified, error } = await run('verify', { store: 'dry-dock' })
      expect([last, verified, error]).toEqual([last, 'done', null])
      // More than it had to do: it would go on for ever.
      expect(last).toBeLessThan(60)
    }
    expect(await pointsThere()).toEqual(made.map(({ point }) => point))
    await tidyUp(bench.engine, true)
    await isWhole(made)
  })

  it('is gone on with where its worker was killed', { timeout: 240_000 }, async () => {
    const made = (await halfEmpty()).slice(2)
    for (let nth = 1; nth <= 6; nth++) {
      const worker = startWorker(bench.environment)
      let seen = 0
      const killed = new Promise<void>((resolve) => {
        const look = (change: { about: string; state?: string }) => {
          const isOver = change.state !== undefined && ['done', 'warned', 'failed'].includes(change.state)
          if (change.about !== 'run' || (++seen < 2 * nth && !isOver)) return
          bench.engine.changes.off('change', look)
          void killWorker(worker).then(resolve)
        }
        bench.engine.changes.on('change', look)
      })
      const id = await bench.engine.startRun({ kind: 'prune', vessel, startedBy: 'a test', params: { store: 'dry-dock' } })
      await killed
      await tidyUp(bench.engine, true)
      // One that was killed before it had begun waits; it is done here.
      if ((await bench.record(id)).state === 'waiting') await perform(bench.engine, id)
      expect((await run('verify', { store: 'dry-dock' })).state).toBe('done')
    }
    expect((await prune()).state).toBe('done')
    await isWhole(made)
  })
})
