import { readFileSync } from 'node:fs'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { changeReach, settingsOf, tryReach } from '../../engine/catalog/source-access'
import { addSource, clusterAccessOf, discoverSource, thingsPresent } from '../../engine/catalog/sources'
import { sourceViews } from '../../engine/catalog/thing-views'
import { addVessel } from '../../engine/catalog/vessels'
import { readKubeconfig, type ClusterSettings } from '../../engine/sources/kubernetes/access'
import type { PostgresSettings } from '../../engine/sources/postgres/connect'
import { DiscoveryWatch } from '../../engine/watch/discovery'
import { attentionNeeded } from '../../engine/watch/attention'
import { anyRight, claim, holder, namespace, storage, TestCluster } from '../support/cluster'
import { Workbench } from '../support/engine'

// A source is reached in another way from now on: a password or token ran out, an address moved, another image reads.

const MIRA = 'token of mira'
let cluster: TestCluster
let other: TestCluster
let bench: Workbench
let id: string
const access = ({ process }: TestCluster) => readKubeconfig(readFileSync(process.kubeconfig, 'utf8'))
const pier = async () => (await sourceViews(bench.engine)).find(({ name }) => name === 'pier')!
const code = (work: Promise<unknown>) =>
  work.then(
    () => 'done',
    (error: { code?: string }) => error.code,
  )

beforeAll(async () => {
  ;[cluster, other, bench] = await Promise.all([
    TestCluster.start('pier', { users: { [MIRA]: 'mira' } }),
    TestCluster.start('islet'),
    Workbench.open('create table ferry (id int primary key)'),
  ])
  cluster.apply(
    storage('rope'),
    namespace('boarding'),
    claim('lanes', 'boarding', 'rope'),
    holder('boarding', 'lanes'),
    ...anyRight('mira'),
  )
  cluster.kubectl('wait', '--for=condition=Ready', 'pod', '--all', '-n', 'boarding', '--timeout=30s')
  id = await addSource(bench.engine, { name: 'pier', ...access(cluster), secret: { token: MIRA } })
})
afterAll(async () => {
  await bench?.close()
  await cluster?.stop()
  await other?.stop()
})

describe('a cluster whose token ran out', () => {
  it('needs attention, is given a new one, and is what it was', async () => {
    const before = await thingsPresent(bench.engine, 'pier')
    cluster.process.expire(MIRA)
    await discoverSource(bench.engine, id)
    expect(await attentionNeeded(bench.engine, [])).toContainEqual(
      expect.objectContaining({ what: expect.stringContaining('does not accept the token'), to: '/sources/pier?reach' }),
    )
    const { settings, secret } = access(cluster)
    expect((await tryReach(bench.engine, id, { settings, secret: { token: 'not this' } })).usable).toBe(false)
    expect(await code(changeReach(bench.engine, id, { settings, secret: { token: 'not this' } }))).toBe('source_unusable')
    expect((await pier()).trouble).toMatchObject({ code: 'token_refused' })
    expect((await tryReach(bench.engine, id, { settings, secret })).usable).toBe(true)
    await changeReach(bench.engine, id, { settings, secret })
    expect(await pier()).toMatchObject({ id, trouble: null, probe: { usable: true } })
    expect(await attentionNeeded(bench.engine, [])).toEqual([])
    expect(await thingsPresent(bench.engine, 'pier')).toEqual(before)
  })

  it('keeps its token where the address stays, and sends it to no other', async () => {
    const settings = (await settingsOf(bench.engine, id)) as ClusterSettings
    await changeReach(bench.engine, id, { settings: { ...settings, user: 'gate crew' }, secret: null })
    expect((await clusterAccessOf(bench.engine, 'pier')).secret).toEqual(access(cluster).secret)
    const elsewhere = { settings: { ...settings, server: other.process.url }, secret: null }
    expect(await code(tryReach(bench.engine, id, elsewhere))).toBe('secret_missing')
    expect(await code(changeReach(bench.engine, id, elsewhere))).toBe('secret_missing')
    expect((await pier()).address).toBe(cluster.process.url)
  })
})

describe('a cluster that is another one', () => {
  it('takes no place by mistake, and does where that is meant', async () => {
    expect(await code(changeReach(bench.engine, id, access(other)))).toBe('another_system')
    expect((await pier()).address).toBe(cluster.process.url)
    await changeReach(bench.engine, id, access(other), true)
    expect((await pier()).address).toBe(other.process.url)
    expect((await thingsPresent(bench.engine, 'pier')).some(({ path }) => path === 'pier/boarding')).toBe(false)
    await changeReach(bench.engine, id, access(cluster), true)
    expect((await thingsPresent(bench.engine, 'pier')).some(({ path }) => path === 'pier/boarding')).toBe(true)
  })

  it('is the one that is watched from then on', async () => {
    const isThere = async (path: string) => (await thingsPresent(bench.engine, 'pier')).some((thing) => thing.path === path)
    const watching = new DiscoveryWatch(bench.engine, bench.engine.duties)
    watching.start()
    try {
      cluster.apply(namespace('mole'))
      await cluster.until(() => isThere('pier/mole'))
      await changeReach(bench.engine, id, access(other), true)
      expect(await isThere('pier/mole')).toBe(false)
      other.apply(namespace('jetty'))
      await other.until(() => isThere('pier/jetty'))
    } finally {
      await watching.close()
      await changeReach(bench.engine, id, access(cluster), true)
    }
  })
})

describe('the image of the pods that read', () => {
  it('is the one that the source names', async () => {
    const vessel = await addVessel(bench.engine, 'Lanes', {
      rules: [{ id: 'a', act: 'take', kind: 'namespace', pattern: 'pier/boarding' }],
      store: 'dry-dock',
      promises: { couldLose: null, backWithin: null },
      readers: 1,
    })
    const named = async (readerImage: string) => {
      const { settings, secret } = access(cluster)
      await changeReach(bench.engine, id, { settings: { ...settings, readerImage }, secret })
      const run = await bench.run('backup', vessel)
      return { state: run.state, told: (await bench.messages(run.id)).join('\n') }
    }
    const image = 'registry.ferries.example/tools/no-such:1'
    const failed = await named(image)
    expect(failed.state).toBe('warned')
    expect(failed.told).toContain(image)
    expect(await named('registry.ferries.example/tools/reader:2')).toMatchObject({ state: 'done' })
  })
})

describe('a database server', () => {
  it('is given another password only where that is accepted', async () => {
    const source = (await sourceViews(bench.engine)).find(({ kind }) => kind === 'postgres')!
    const settings = source.settings as PostgresSettings
    expect(await code(changeReach(bench.engine, source.id, { settings, password: 'not this' }))).toBe('source_unusable')
    expect(await code(changeReach(bench.engine, source.id, { settings, password: null }))).toBe('done')
    expect(await code(changeReach(bench.engine, source.id, { settings: { ...settings, host: 'localhost' }, password: null }))).toBe(
      'secret_missing',
    )
    expect(await code(changeReach(bench.engine, source.id, access(cluster)))).toBe('another_kind')
    await discoverSource(bench.engine, source.id)
    expect((await sourceViews(bench.engine)).find(({ name }) => name === source.name)!.trouble).toBeNull()
  })
})
