import { readFileSync } from 'node:fs'
import { sql } from 'kysely'
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'
import { namesOf, type Thing } from '../../core/things/thing'
import { accessTo, addSource, discoverSource, probeSource, thingsPresent } from '../../engine/catalog/sources'
import { thingsUnder, sourceViews } from '../../engine/catalog/thing-views'
import { adapterOf } from '../../engine/sources/adapter'
import { readKubeconfig } from '../../engine/sources/kubernetes/access'
import { DiscoveryWatch } from '../../engine/watch/discovery'
import { manifestService, namespace, snapshots, storage, TestCluster } from '../support/cluster'
import { Workbench } from '../support/engine'

// A cluster as a source: what is asked of it, what it lacks, and what is found in it.

let cluster: TestCluster
let bench: Workbench
const MIRA = 'token of mira'
const config = () => readFileSync(cluster.process.kubeconfig, 'utf8')
const withToken = (token: string) => config().replace(/token: .*/, `token: ${token}`)
const source = (text = config()) => ({ name: 'pier', ...readKubeconfig(text) })
const probe = (text?: string) => adapterOf(accessTo(source(text))).probe(new Date())
const thing = (things: Thing[], path: string) => things.find((found) => found.path === path)

beforeAll(async () => {
  ;[cluster, bench] = await Promise.all([TestCluster.start('pier', { users: { [MIRA]: 'mira' } }), Workbench.open()])
  cluster.apply(
    namespace('boarding', { team: 'gates' }),
    storage('berth'),
    storage('rope'),
    snapshots('berth'),
    manifestService('boarding', 'berth'),
    { apiVersion: 'v1', kind: 'ConfigMap', metadata: { name: 'settings', namespace: 'boarding' }, data: { LANES: '4' } },
    { apiVersion: 'v1', kind: 'Secret', metadata: { name: 'keys', namespace: 'boarding' }, stringData: {} },
    {
      apiVersion: 'v1',
      kind: 'Service',
      metadata: { name: 'manifest', namespace: 'boarding' },
      spec: { selector: { app: 'manifest' }, ports: [{ port: 80 }] },
    },
    {
      apiVersion: 'batch/v1',
      kind: 'CronJob',
      metadata: { name: 'report', namespace: 'boarding' },
      spec: {
        schedule: '0 5 * * *',
        jobTemplate: {
          spec: {
            template: {
              spec: {
                restartPolicy: 'Never',
                containers: [
                  {
                    name: 'report',
                    image: 'tide-report',
                    envFrom: [{ configMapRef: { name: 'settings' } }, { secretRef: { name: 'keys' } }],
                  },
                ],
              },
            },
          },
        },
      },
    },
  )
  cluster.kubectl('wait', '--for=condition=Ready', 'pod/manifest-0', '-n', 'boarding', '--timeout=30s')
})
afterAll(async () => {
  await bench?.close()
  await cluster?.stop()
})

describe('a kubeconfig', () => {
  it('is read as far as everything is written in it', () => {
    expect(source()).toMatchObject({
      settings: { server: cluster.process.url, user: 'administrator' },
      secret: { token: cluster.process.token },
    })
    const refused = (text: string, context?: string) => {
      try {
        readKubeconfig(text, context)
        return ''
      } catch (error) {
        return (error as Error).message
      }
    }
    expect(refused(config(), 'other')).toContain('no context other')
    expect(refused('a: [')).toContain('not YAML')
    expect(refused(config().replace('certificate-authority-data', 'certificate-authority'))).toContain('points to files')
    expect(refused(config().replace(/token: .*/, 'exec: { command: sign-in }'))).toContain('signs in with a program')
  })
})

describe('a probe', () => {
  it('finds everything where everything is allowed', async () => {
    const report = await probe()
    expect(report.findings.filter(({ outcome }) => outcome !== 'ok')).toEqual([])
    expect(report).toMatchObject({ usable: true, server: { version: 'v1.30.0' } })
    expect(report.findings.find(({ id }) => id === 'storage')!.detail).toBe(
      'berth can take snapshots; rope can’t, so volumes of it are read in place.',
    )
  })

  it('says what is missing one by one, and what it prints grants it', async () => {
    const before = await probe(withToken(MIRA))
    expect(before.usable).toBe(false)
    const missing = before.findings.filter(({ outcome }) => outcome !== 'ok')
    expect(missing.map(({ id }) => id)).toEqual([
      'namespaces',
      'secrets',
      'readers',
      'hooks',
      'scale',
      'write',
      'snapshots',
      'read',
      'storage',
    ])
    for (const { mend } of missing) if (mend) expect(cluster.run(['apply', '-f', '-'], mend).status).toBe(0)
    const after = await probe(withToken(MIRA))
    expect(after.findings.filter(({ outcome }) => outcome !== 'ok')).toEqual([])
    cluster.kubectl('delete', 'clusterrolebinding', 'unbroken-vessel-secrets', 'unbroken-vessel-write')
    expect((await probe(withToken(MIRA))).findings.find(({ id }) => id === 'secrets')).toMatchObject({
      outcome: 'advice',
      title: 'Secrets',
    })
  })

  it('of what is no cluster, or of a token that ran out, says so', async () => {
    const closed = await probe(config().replace(/https:.*/, 'https://127.0.0.1:1'))
    expect(closed.findings).toMatchObject([
      { id: 'reachable', outcome: 'missing', detail: expect.stringContaining('could not be reached') },
    ])
    const other = await probe(config().replace(/certificate-authority-data: .*/, ''))
    expect(other.findings[0]!.detail).toContain('could not be verified')
    const unknown = await probe(withToken('wrong'))
    expect(unknown.findings[0]!.detail).toContain('does not accept the token')
    await expect(addSource(bench.engine, { ...source(withToken('wrong')), name: 'no' })).rejects.toThrow('does not accept the token')
  })
})

describe('discovery', () => {
  let id: string
  const present = () => thingsPresent(bench.engine, 'pier')
  const until = (holds: () => Promise<boolean>) =>
    vi.waitFor(async () => expect(await holds()).toBe(true), { timeout: 30_000, interval: 100 })

  it('finds what was put into a cluster, what belongs together, and not what the cluster makes by itself', async () => {
    id = await addSource(bench.engine, source())
    const things = await present()
    const inBoarding = things
      .filter(({ path }) => namesOf(path)[1] === 'boarding' && namesOf(path).length > 2)
      .map(({ path }) => path.slice('pier/boarding/'.length))
    expect(inBoarding).toEqual([
      'apps/StatefulSet/manifest',
      'batch/CronJob/report',
      'core/ConfigMap/settings',
      'core/PersistentVolumeClaim/data-manifest-0',
      'core/Secret/keys',
      'core/Service/manifest',
      'volume/data-manifest-0',
    ])
    expect(thing(things, 'pier/boarding')).toMatchObject({ kind: 'namespace', labels: { team: 'gates' } })
    expect(thing(things, 'pier/boarding/volume/data-manifest-0')!.facts).toMatchObject({
      bytes: 2 ** 30,
      storageClass: 'berth',
      snapshots: true,
    })
    expect(thing(things, 'pier/boarding/batch/CronJob/report')!.facts.uses).toEqual([
      'pier/boarding/core/ConfigMap/settings',
      'pier/boarding/core/Secret/keys',
    ])
    expect(thing(things, 'pier/boarding/core/Service/manifest')!.facts.uses).toEqual(['pier/boarding/apps/StatefulSet/manifest'])
    expect(thing(things, 'pier/boarding/core/PersistentVolumeClaim/data-manifest-0')!.facts.uses).toEqual([
      'pier/@cluster/storage.k8s.io/StorageClass/berth',
    ])
    expect(things.filter(({ path }) => path.startsWith('pier/@cluster/storage'))).toHaveLength(2)
  })

  it('shows them under Sources, with the vessels that take them', async () => {
    expect((await sourceViews(bench.engine)).find(({ name }) => name === 'pier')).toMatchObject({
      kind: 'kubernetes',
      address: cluster.process.url,
      tls: 'verified',
    })
    const homes = await thingsUnder(bench.engine, 'pier')
    expect(homes.find(({ name }) => name === 'boarding')).toMatchObject({ kind: 'namespace', tables: 7, cover: 'none' })
    const { addVessel } = await import('../../engine/catalog/vessels')
    await addVessel(bench.engine, 'Boarding gate', {
      rules: [
        { id: 'a', act: 'take', kind: 'namespace', pattern: 'pier/*', labels: 'team=gates' },
        { id: 'b', act: 'leave', kind: 'object', pattern: 'pier/*/core/Secret/*' },
      ],
      store: 'dry-dock',
      promises: { couldLose: null, backWithin: null },
      readers: 2,
    })
    const inside = await thingsUnder(bench.engine, 'pier/boarding')
    expect(inside.map(({ path, cover }) => [path.split('/').at(-2), cover])).toEqual([
      ['StatefulSet', 'all'],
      ['CronJob', 'all'],
      ['ConfigMap', 'all'],
      ['PersistentVolumeClaim', 'all'],
      ['Secret', 'none'],
      ['Service', 'all'],
      ['volume', 'all'],
    ])
    expect((await thingsUnder(bench.engine, 'pier')).find(({ name }) => name === 'boarding')).toMatchObject({ cover: 'part' })
    expect((await thingsUnder(bench.engine, null)).map(({ name, kind }) => [name, kind])).toContainEqual(['pier', 'cluster'])
  })

  it('watches: what is new, changed and gone is known within moments, and a cluster that was away is taken up again', async () => {
    const watching = new DiscoveryWatch(bench.engine, bench.engine.duties)
    watching.start()
    try {
      cluster.apply(namespace('kiosk'), { apiVersion: 'v1', kind: 'ConfigMap', metadata: { name: 'prices', namespace: 'kiosk' }, data: {} })
      await until(async () => thing(await present(), 'pier/kiosk/core/ConfigMap/prices') !== undefined)
      cluster.kubectl('label', 'namespace', 'kiosk', 'team=desks')
      await until(async () => thing(await present(), 'pier/kiosk')?.labels.team === 'desks')
      cluster.kubectl('delete', 'namespace', 'kiosk')
      await until(async () => thing(await present(), 'pier/kiosk') === undefined)
      expect((await thingsUnder(bench.engine, 'pier')).find(({ name }) => name === 'kiosk')?.goneAt).not.toBeNull()
      const { folder, process: running } = cluster
      await cluster.stop()
      await until(async () => (await sourceViews(bench.engine)).find(({ name }) => name === 'pier')?.trouble !== null)
      cluster = await TestCluster.start('pier', { folder, port: running.port, users: { [MIRA]: 'mira' } })
      cluster.apply(namespace('back-again'))
      await until(async () => thing(await present(), 'pier/back-again') !== undefined)
    } finally {
      await watching.close()
    }
  })

  it('writes down only what changed', async () => {
    const versions = async () => {
      const { rows } = await sql<{ path: string; xmin: string }>`select path, xmin::text from thing where source_id = ${id}`.execute(
        bench.engine.db,
      )
      return new Map(rows.map(({ path, xmin }) => [path, xmin]))
    }
    await discoverSource(bench.engine, id)
    const before = await versions()
    cluster.kubectl('label', 'configmap', 'settings', '-n', 'boarding', 'lane=foot')
    cluster.kubectl('create', 'configmap', 'passing', '-n', 'boarding')
    await discoverSource(bench.engine, id)
    const after = await versions()
    const passing = 'pier/boarding/core/ConfigMap/passing'
    const written = [...after].filter(([path, xmin]) => before.get(path) !== xmin).map(([path]) => path)
    expect(written.sort()).toEqual([passing, 'pier/boarding/core/ConfigMap/settings'])
    cluster.kubectl('delete', 'configmap', 'passing', '-n', 'boarding')
    await discoverSource(bench.engine, id)
    expect(thing(await thingsPresent(bench.engine, 'pier'), passing)).toBeUndefined()
    cluster.kubectl('create', 'configmap', 'passing', '-n', 'boarding')
    await discoverSource(bench.engine, id)
    expect(thing(await thingsPresent(bench.engine, 'pier'), passing)).toBeDefined()
  })

  it('says what it may not list, and that the token ran out', async () => {
    const humble = await addSource(bench.engine, { ...source(withToken(MIRA)), name: 'humble' })
    expect(thing(await thingsPresent(bench.engine, 'humble'), 'humble')!.facts.trouble).toContain('secrets')
    cluster.process.expire(MIRA)
    await discoverSource(bench.engine, humble)
    expect((await sourceViews(bench.engine)).find(({ name }) => name === 'humble')!.trouble).toMatchObject({ code: 'token_refused' })
    expect((await probeSource(bench.engine, humble)).usable).toBe(false)
    expect(id).not.toBe(humble)
  })
})
