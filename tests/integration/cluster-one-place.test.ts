import { readdirSync, readFileSync, renameSync, rmSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { buffer } from 'node:stream/consumers'
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest'
import { wishOf } from '../../core/restore/wish'
import { addRun } from '../../engine/catalog/runs'
import { addSource, discoverSource } from '../../engine/catalog/sources'
import { standings } from '../../engine/catalog/standing'
import { addStore, openStore } from '../../engine/catalog/stores'
import { addVessel, saveDefinition, vesselBySlug, type Vessel } from '../../engine/catalog/vessels'
import { findFiles } from '../../engine/compare/cluster'
import { openFile } from '../../engine/look/cluster'
import { openPoint } from '../../engine/points/open'
import { tidyUp } from '../../engine/runs/orphans'
import { planAll } from '../../engine/runs/restore-plan'
import { readKubeconfig } from '../../engine/sources/kubernetes/access'
import { ContentWriter } from '../../engine/store/writer'
import { attentionNeeded } from '../../engine/watch/attention'
import { claim, holder, namespace, snapshots, storage, TestCluster } from '../support/cluster'
import { Workbench } from '../support/engine'

// Snapshots that were taken and could not be read: better in one place only than in none, and into the store when it can be.

const VOLUME = 'pier/boarding/volume/lanes'
let cluster: TestCluster
let bench: Workbench
let count = 0

const vessel = (more: object = {}): Promise<Vessel> =>
  addVessel(bench.engine, `Lanes ${++count}`, {
    rules: [{ id: 'a', act: 'take', kind: 'namespace', pattern: 'pier/boarding' }],
    store: 'dry-dock',
    promises: { couldLose: null, backWithin: null },
    readers: 2,
    ...more,
  })
const write = (text: string) => writeFileSync(join(cluster.volume('lanes', 'boarding'), 'lanes.txt'), text)
const kept = () => cluster.json('get', 'volumesnapshots', '-n', 'boarding', '-l', 'unbroken-vessel.kept').items.length
/** As long as it stands there is no room for the pod that would read. */
const full = () =>
  cluster.apply({
    apiVersion: 'v1',
    kind: 'ResourceQuota',
    metadata: { name: 'full', namespace: 'boarding' },
    spec: { hard: { pods: '1' } },
  })
const roomAgain = () => cluster.kubectl('delete', 'resourcequota', 'full', '-n', 'boarding')
async function leave(of: Vessel): Promise<string> {
  full()
  const run = await bench.run('backup', of)
  roomAgain()
  expect([run.error, run.state]).toEqual([null, 'warned'])
  return (run.outcome as { point: string }).point
}
const fetch = (of: Vessel, point: string) => bench.run('fetch', of, { point })
const textIn = async (point: string) => {
  const { stream } = await openFile(await openPoint(bench.engine, point), VOLUME, 'lanes.txt')
  return (await buffer(stream)).toString()
}
const rowOf = (point: string) =>
  bench.engine.db.selectFrom('point').select(['complete', 'missing']).where('id', '=', point).executeTakeFirstOrThrow()

beforeAll(async () => {
  ;[cluster, bench] = await Promise.all([TestCluster.start('pier'), Workbench.open()])
  cluster.apply(
    storage('berth'),
    snapshots('berth'),
    namespace('boarding'),
    claim('lanes', 'boarding', 'berth'),
    holder('boarding', 'lanes'),
  )
  await cluster.until(() => cluster.json('get', 'pvc', 'lanes', '-n', 'boarding').status.phase === 'Bound')
  cluster.kubectl('wait', '--for=condition=Ready', 'pod', '--all', '-n', 'boarding', '--timeout=30s')
  await addSource(bench.engine, { name: 'pier', ...readKubeconfig(readFileSync(cluster.process.kubeconfig, 'utf8')) })
})
afterEach(() => expect(cluster.temporary()).toBe(0))
afterAll(async () => {
  await bench?.close()
  await cluster?.stop()
})

describe('a volume whose snapshot can’t be read', () => {
  it('stays in one place only, which its point says, until it is read into the store as it was', async () => {
    const lanes = await vessel()
    write('four lanes')
    const point = await leave(lanes)
    expect(kept()).toBe(1)
    expect(await rowOf(point)).toMatchObject({
      complete: false,
      missing: [{ path: VOLUME, reason: expect.stringMatching(/only in the snapshot.*exceeded quota/), onlyAt: expect.any(String) }],
    })
    await expect(textIn(point)).rejects.toMatchObject({ code: 'one_place_only', status: 409 })
    expect(await findFiles(bench.engine, lanes.id, 'lanes.txt', 60)).toEqual([])
    const { blockers } = (await planAll(bench.engine, await openPoint(bench.engine, point), wishOf({ picks: ['pier/boarding'] })))
      .namespaces[0]!.plan
    expect(blockers.map(({ code }) => code)).toContain('one_place_only')
    await discoverSource(
      bench.engine,
      (await bench.engine.db.selectFrom('source').select('id').where('name', '=', 'pier').executeTakeFirstOrThrow()).id,
    )
    const [attention] = (await attentionNeeded(bench.engine, await standings(bench.engine))).filter(({ to }) => to.includes(lanes.slug))
    expect(attention).toMatchObject({ what: expect.stringContaining('only at its source: lanes'), action: 'Read it into the store…' })

    write('no lanes at all')
    const run = await fetch(lanes, point)
    expect([run.error, run.state]).toEqual([null, 'done'])
    expect(await textIn(point)).toBe('four lanes')
    expect(await rowOf(point)).toEqual({ complete: true, missing: [] })
    expect(kept()).toBe(0)
    expect(
      (await bench.engine.db.selectFrom('artifact').select('rows').where('vessel_id', '=', lanes.id).executeTakeFirstOrThrow()).rows,
    ).toBeGreaterThan(1)
    // What is swept up behind workers that are gone is not its record, which was written anew.
    await tidyUp(bench.engine, true)
    expect(await (await openStore(bench.engine, { name: 'dry-dock' })).readPoint(point)).toMatchObject({ id: point, complete: true })
    expect((await fetch(lanes, point)).error).toMatchObject({ code: 'nothing_left' })
    // The record in the store says the same as the catalog.
    const { store } = await openPoint(bench.engine, point)
    expect(await store.readPoint(point)).toMatchObject({ id: point, complete: true })
    expect((await bench.run('verify', lanes)).state).toBe('done')
  })

  it('is read again by the next backup, which does not lean on what is not in the store', async () => {
    const lanes = await vessel()
    write('five lanes')
    const left = await leave(lanes)
    const run = await bench.run('backup', lanes)
    expect([run.error, run.state]).toEqual([null, 'done'])
    expect(await textIn((run.outcome as { point: string }).point)).toBe('five lanes')
    expect((await fetch(lanes, left)).state).toBe('done')
  })

  it('leaves nothing half-read in the store of its point when the worker dies, even if its vessel has another store since', async () => {
    const lanes = await vessel()
    const point = await leave(lanes)
    await addStore(bench.engine, { name: 'far-dock', path: `${bench.place}-far` })
    await saveDefinition(bench.engine, lanes.slug, lanes.version, { ...lanes.definition, store: 'far-dock' })
    const packs = () => readdirSync(join(bench.place, 'packs')).sort()
    const before = packs()
    const params = { point }
    const id = await addRun(bench.engine, {
      kind: 'fetch',
      vessel: await vesselBySlug(bench.engine, lanes.slug),
      startedBy: 'a test',
      params,
    })
    await bench.engine.db
      .updateTable('run')
      .set({ state: 'running', heartbeat_at: new Date(0) })
      .where('id', '=', id)
      .execute()
    const writer = new ContentWriter(await openStore(bench.engine, { name: 'dry-dock' }), id)
    await writer.put(Uint8Array.of(1, 2, 3))
    await writer.flush()
    expect(packs().length).toBe(before.length + 1)
    await tidyUp(bench.engine, true)
    expect(await bench.record(id)).toMatchObject({ state: 'failed', error: { code: 'worker_died' } })
    expect(packs()).toEqual(before)
    expect(await rowOf(point)).toMatchObject({ complete: false })
    expect((await fetch(lanes, point)).state).toBe('done')
  })

  it('stays where it is when the worker dies just after the point was made', async () => {
    const lanes = await vessel()
    write('six lanes')
    const point = await leave(lanes)
    const { run_id: id } = await bench.engine.db.selectFrom('point').select('run_id').where('id', '=', point).executeTakeFirstOrThrow()
    await bench.engine.db
      .updateTable('run')
      .set({ state: 'running', heartbeat_at: new Date(0), finished_at: null, outcome: null })
      .where('id', '=', id)
      .execute()
    await tidyUp(bench.engine, true)
    expect(await bench.record(id)).toMatchObject({ state: 'warned', outcome: { point } })
    expect(kept()).toBe(1)
    expect((await fetch(lanes, point)).state).toBe('done')
    expect(await textIn(point)).toBe('six lanes')
  })

  it('is told to be lost when somebody removed the snapshot meanwhile', async () => {
    const lanes = await vessel()
    const point = await leave(lanes)
    cluster.kubectl('delete', 'volumesnapshots', '-n', 'boarding', '-l', 'unbroken-vessel.kept')
    expect((await fetch(lanes, point)).error).toMatchObject({ code: 'snapshot_gone', what: expect.stringContaining(VOLUME) })
    expect(await rowOf(point)).toMatchObject({ complete: false })
  })

  it('is not left there where the definition wants all or nothing, or when there is no point', async () => {
    const strict = await vessel({ partly: 'fail' })
    full()
    expect((await bench.run('backup', strict)).error).toMatchObject({ code: 'partly_captured' })
    expect(kept()).toBe(0)
    // What fails is the last thing that a run does.
    const points = join(bench.place, 'points')
    renameSync(points, `${points}-away`)
    writeFileSync(points, '')
    const failed = await bench.run('backup', await vessel())
    rmSync(points)
    renameSync(`${points}-away`, points)
    expect(failed).toMatchObject({ state: 'failed', error: { code: 'store_not_a_folder' } })
    roomAgain()
    expect(kept()).toBe(0)
  })
})
