import { execFileSync } from 'node:child_process'
import { randomUUID } from 'node:crypto'
import { mkdirSync, readFileSync, symlinkSync, writeFileSync, readdirSync } from 'node:fs'
import { join } from 'node:path'
import { buffer } from 'node:stream/consumers'
import { parseAllDocuments } from 'yaml'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { Rule } from '../../core/selection/rules'
import type { NamespaceManifest } from '../../core/content/manifest'
import { addSource, discoverSource } from '../../engine/catalog/sources'
import { addVessel, saveDefinition, vesselBySlug, type Vessel } from '../../engine/catalog/vessels'
import { standings } from '../../engine/catalog/standing'
import { compareManifest, compareVolume, findFiles } from '../../engine/compare/cluster'
import { pointContents } from '../../engine/compare/contents'
import { folderOf, namespaceYaml, objectYaml, openFile, volumeTar } from '../../engine/look/cluster'
import { attentionNeeded } from '../../engine/watch/attention'
import { openLosses } from '../../engine/watch/losses'
import { openPoint } from '../../engine/points/open'
import { sweepClusters } from '../../engine/runs/clusters/leftovers'
import { readKubeconfig } from '../../engine/sources/kubernetes/access'
import type { KubeObject } from '../../engine/sources/kubernetes/client'
import { claim, holder, manifestService, namespace, snapshots, storage, TestCluster } from '../support/cluster'
import { Workbench } from '../support/engine'
import { ownFolder } from '../support/folder'

// Namespaces backed up: their objects without what the cluster writes, their volumes file by file.

let cluster: TestCluster
let bench: Workbench
let sourceId: string
const rule = (act: Rule['act'], kind: Rule['kind'], pattern: string, labels?: string): Rule => ({
  id: `${act} ${pattern} ${labels ?? ''}`,
  act,
  kind,
  pattern,
  ...(labels ? { labels } : {}),
})
const vessel = (name: string, ...rules: Rule[]): Promise<Vessel> =>
  addVessel(bench.engine, name, { rules, store: 'dry-dock', promises: { couldLose: null, backWithin: null }, readers: 2 })
const newest = async (run: { outcome: unknown }) => openPoint(bench.engine, (run.outcome as { point: string }).point)
beforeAll(async () => {
  ;[cluster, bench] = await Promise.all([TestCluster.start('pier'), Workbench.open()])
  cluster.apply(
    storage('berth'),
    storage('rope'),
    snapshots('berth'),
    namespace('boarding', { team: 'gates' }),
    manifestService('boarding', 'berth'),
    {
      apiVersion: 'v1',
      kind: 'ConfigMap',
      metadata: { name: 'settings', namespace: 'boarding', labels: { app: 'gate' } },
      data: { LANES: '4' },
    },
    { apiVersion: 'v1', kind: 'Secret', metadata: { name: 'keys', namespace: 'boarding' }, data: { KEY: 'c2VjcmV0' } },
    {
      apiVersion: 'v1',
      kind: 'Service',
      metadata: { name: 'manifest', namespace: 'boarding' },
      spec: { selector: { app: 'manifest' }, ports: [{ port: 80 }] },
    },
    namespace('kiosk'),
    claim('receipts', 'kiosk', 'rope'),
    holder('kiosk', 'receipts'),
  )
  cluster.kubectl('wait', '--for=condition=Ready', 'pod', '--all', '-n', 'boarding', '--timeout=30s')
  await cluster.until(() => cluster.json('get', 'pvc', 'receipts', '-n', 'kiosk').status.phase === 'Bound')
  const folder = cluster.volume('receipts', 'kiosk')
  mkdirSync(join(folder, 'november', 'days'), { recursive: true })
  writeFileSync(join(folder, 'november', 'days', '01.txt'), 'coffee\n')
  writeFileSync(join(folder, 'large.bin'), Buffer.alloc(6_000_000, 'receipt '))
  writeFileSync(join(folder, 'odd name ü.txt'), 'odd')
  writeFileSync(join(folder, 'empty'), '')
  symlinkSync('november/days/01.txt', join(folder, 'first'))
  execFileSync('ln', [join(folder, 'large.bin'), join(folder, 'same.bin')])
  sourceId = await addSource(bench.engine, { name: 'pier', ...readKubeconfig(readFileSync(cluster.process.kubeconfig, 'utf8')) })
})
afterAll(async () => {
  await bench?.close()
  await cluster?.stop()
})

describe('a namespace', () => {
  it('is kept with its objects, what they need of the cluster, and every file of its volumes', async () => {
    const boarding = await vessel(
      'Boarding',
      rule('take', 'namespace', 'pier/*', 'team=gates'),
      rule('leave', 'object', 'pier/*/core/Secret/*'),
    )
    const run = await bench.run('backup', boarding)
    expect(await bench.messages(run.id)).toEqual([])
    expect(run.state).toBe('done')
    const point = await newest(run)
    const [{ manifest }] = point.members as [(typeof point.members)[number]]
    expect(manifest.namespaces!.map(({ name }) => name)).toEqual(['boarding'])
    const [kept] = manifest.namespaces!
    expect(kept!.objects.map(({ kind, name, wide }) => `${kind}/${name}${wide ? ' wide' : ''}`)).toEqual([
      'StorageClass/berth wide',
      'StatefulSet/manifest',
      'ConfigMap/settings',
      'PersistentVolumeClaim/data-manifest-0',
      'Service/manifest',
    ])
    expect(kept!.volumes).toMatchObject([{ claim: 'data-manifest-0', how: 'snapshot', files: 2 }])
    const yaml = await objectYaml(point, 'pier/boarding/core/Service/manifest')
    expect(yaml).not.toMatch(/uid|resourceVersion|clusterIP|creationTimestamp|status/)
    expect(yaml).toContain('app: manifest')
    const bundle = parseAllDocuments(await namespaceYaml(point, 'pier/boarding')).map((document) => document.toJS())
    expect(bundle.map(({ kind }) => kind)[0]).toBe('StorageClass')
    // The bundle is what a cluster takes as it is.
    cluster.kubectl('delete', 'service', 'manifest', '-n', 'boarding')
    expect(cluster.run(['apply', '-f', '-'], await namespaceYaml(point, 'pier/boarding')).status).toBe(0)
    expect(cluster.json('get', 'service', 'manifest', '-n', 'boarding').spec).toMatchObject({
      selector: { app: 'manifest' },
      clusterIP: expect.any(String),
    })
    expect(
      (await bench.engine.db.selectFrom('point').select('consistency').where('id', '=', point.id).executeTakeFirstOrThrow()).consistency,
    ).toBe('as found')
    expect(cluster.temporary()).toBe(0)
  })

  it('read in place tells whether something used it meanwhile, on the point and in the run', async () => {
    cluster.apply(namespace('sheds'), claim('tools', 'sheds', 'rope'), holder('sheds', 'tools'))
    await cluster.until(() =>
      cluster.json('get', 'pods', '-n', 'sheds').items.some((pod: { status?: { phase?: string } }) => pod.status?.phase === 'Running'),
    )
    const sheds = await vessel('Sheds', rule('take', 'namespace', 'pier/sheds'))
    const consistency = async () => {
      const run = await bench.run('backup', sheds)
      const point = await newest(run)
      const { reached } = await bench.engine.db.selectFrom('point').select('reached').where('id', '=', point.id).executeTakeFirstOrThrow()
      const read = (await pointContents(bench.engine, point.id, false)).things.find(({ kind }) => kind === 'volume')!.read
      return [read!.how, read!.inUse, reached!.consistency, Object.keys(run.counters).filter((name) => name.startsWith('volumes read'))]
    }
    expect(await consistency()).toEqual(['in place', true, 'in use', ['volumes read in use']])
    cluster.kubectl('scale', 'deployment', 'holds-tools', '-n', 'sheds', '--replicas=0')
    await cluster.until(() => cluster.json('get', 'pods', '-n', 'sheds', '-l', 'holds=tools').items.length === 0)
    expect(await consistency()).toEqual(['in place', false, 'as found', ['volumes read at rest']])
    cluster.kubectl('delete', 'namespace', 'sheds')
  })

  it('without snapshots is read in place, and comes out as it was', async () => {
    const kiosks = await vessel('Kiosks', rule('take', 'namespace', 'pier/kiosk'))
    const run = await bench.run('backup', kiosks)
    expect(run.state).toBe('done')
    const point = await newest(run)
    const [{ objects, volumes }] = point.members[0]!.manifest.namespaces! as [NamespaceManifest]
    expect(volumes).toMatchObject([{ how: 'in place', files: 4, storageClass: 'rope' }])
    // What is told on the way: folders and links are no files, and a file of two names is expected twice.
    expect(run.counters).toMatchObject({ objects: objects.length, files: 4, 'files expected': 5, bytes: volumes[0]!.bytes })
    const path = 'pier/kiosk/volume/receipts'
    const folder = ownFolder('out')
    execFileSync('tar', ['-x', '-C', folder], { input: await buffer(await volumeTar(point, path)) })
    expect(execFileSync('diff', ['-r', '--no-dereference', cluster.volume('receipts', 'kiosk'), folder]).toString()).toBe('')
    expect((await folderOf(point, path, '')).map(({ name, type }) => `${type} ${name}`)).toEqual([
      'folder november',
      'file empty',
      'link first',
      'file large.bin',
      'file odd name ü.txt',
      'hard-link same.bin',
    ])
    expect(await folderOf(point, path, 'november')).toMatchObject([{ name: 'days', files: 1, size: 7 }])
    const { stream } = await openFile(point, path, 'november/days/01.txt')
    expect((await buffer(stream)).toString()).toBe('coffee\n')
    await expect(openFile(point, path, '../large.bin')).rejects.toThrow('no file')

    // What has not changed is stored only once.
    writeFileSync(join(cluster.volume('receipts', 'kiosk'), 'november', 'days', '02.txt'), 'bun\n')
    const again = await bench.run('backup', kiosks)
    expect((again.outcome as { stored: number }).stored).toBeLessThan(20_000)
    expect((await folderOf(await newest(again), path, 'november/days')).map(({ name }) => name)).toEqual(['01.txt', '02.txt'])
    expect(await folderOf(point, path, 'november/days')).toHaveLength(1)
    const { files, counts } = await compareVolume(bench.engine, point, path, (again.outcome as { point: string }).point)
    expect(files[0]).toMatchObject({ path: 'november/days/02.txt', mark: 'new', before: null })
    expect(counts).toEqual({ gone: 0, changed: 0, new: 1, same: 6 })
    const found = await findFiles(bench.engine, kiosks.id, '0*.TXT', 60)
    expect(found.map(({ file, at }) => [file, at > point.at])).toEqual([
      ['november/days/01.txt', true],
      ['november/days/02.txt', true],
      ['november/days/01.txt', false],
    ])
    expect(cluster.temporary()).toBe(0)
  })

  it('stands in the contents of its point, with what is there now', async () => {
    const both = await vessel('Both', rule('take', 'namespace', 'pier/boarding'), rule('take', 'namespace', 'pier/kiosk'))
    const point = await newest(await bench.run('backup', both))
    cluster.kubectl('delete', 'configmap', 'settings', '-n', 'boarding')
    await discoverSource(bench.engine, sourceId)
    const { things } = await pointContents(bench.engine, point.id)
    const find = (path: string) => things.find((thing) => thing.path === path)
    expect(find('pier/boarding')).toMatchObject({ kind: 'namespace', there: true })
    expect(find('pier/boarding/core/ConfigMap/settings')).toMatchObject({ kind: 'ConfigMap', there: false })
    expect(find('pier/kiosk/volume/receipts')).toMatchObject({ kind: 'volume', rows: 5, there: true })
    const settings = 'pier/boarding/core/ConfigMap/settings'
    expect(await compareManifest(bench.engine, point, settings, null)).toMatchObject({
      now: null,
      before: expect.stringContaining('LANES'),
    })
    const { run } = await bench.restore(both, point.id, { picks: [settings] })
    expect([run.error, cluster.json('get', 'configmap', 'settings', '-n', 'boarding').data]).toEqual([null, { LANES: '4' }])
    cluster.kubectl('patch', 'configmap', 'settings', '-n', 'boarding', '--type=merge', '-p', '{"data":{"LANES":"5"}}')
    expect((await compareManifest(bench.engine, point, settings, null)).fields).toEqual([{ field: 'data.LANES', before: '4', now: '5' }])
    expect((await compareManifest(bench.engine, point, settings, point.id)).fields).toEqual([])
  })

  it('together with a database makes one point, whose differential reads the namespace again', async () => {
    bench.sql(`create table ticket (id int primary key); insert into ticket values (1)`)
    const mixed = await vessel('Mixed', rule('take', 'namespace', 'pier/kiosk'), rule('take', 'database', bench.path()))
    const full = await newest(await bench.run('backup', mixed))
    expect(full.members.map(({ member }) => member)).toEqual(['db', 'pier'])
    bench.sql(`insert into ticket values (2)`)
    const run = await bench.run('backup', mixed, { what: 'differential' })
    expect(['done', 'warned']).toContain(run.state)
    const later = await newest(run)
    expect(later.members.map(({ member }) => member)).toEqual(['db', 'pier'])
    expect(later.members[0]!.manifest.databases[0]!.tables[0]!.rows).toBe(2)
    expect(later.members[1]!.manifest.namespaces![0]!.objects.length).toBeGreaterThan(1)
  })
})

describe('what was made in a cluster for a time', () => {
  const leave = (name: string, run: string) =>
    cluster.apply({
      apiVersion: 'v1',
      kind: 'Pod',
      metadata: { name, namespace: 'kiosk', labels: { 'unbroken-vessel.temporary': run } },
      spec: { containers: [{ name: 'reader', image: 'debian:12-slim' }] },
    })
  const names = () =>
    cluster.json('get', 'pods', '-n', 'kiosk', '-l', 'unbroken-vessel.temporary').items.map(({ metadata }: KubeObject) => metadata.name)

  it('is removed by the next backup, where a worker died', async () => {
    const kiosks = await vessel('Kiosks after a death', rule('take', 'namespace', 'pier/kiosk'))
    const over = await bench.run('backup', kiosks)
    leave('unbroken-vessel-left-1', over.id)
    await discoverSource(bench.engine, sourceId)
    expect(names()).toEqual(['unbroken-vessel-left-1'])
    const run = await bench.run('backup', kiosks)
    expect(run.state).toBe('done')
    await cluster.until(() => cluster.temporary() === 0)
    const kept = (await newest(run)).members[0]!.manifest.namespaces![0]!
    expect(kept.objects.map(({ name }) => name)).not.toContain('unbroken-vessel-left-1')
  })

  it('is removed without one, where the cluster made it after its run had been undone', async () => {
    const kiosks = await vessel('Kiosks, late', rule('take', 'namespace', 'pier/kiosk'))
    const over = await bench.run('backup', kiosks)
    leave('unbroken-vessel-late-1', over.id)
    await sweepClusters(bench.engine)
    await cluster.until(() => cluster.temporary() === 0)
  })

  it('stays where another catalog, which this one knows nothing of, is at work', async () => {
    leave('unbroken-vessel-stranger-1', randomUUID())
    const strangers = await vessel('Kiosks beside a stranger', rule('take', 'namespace', 'pier/kiosk'))
    expect((await bench.run('backup', strangers)).state).toBe('done')
    await bench.engine.duties.giveUp(`sweep ${sourceId}`)
    await sweepClusters(bench.engine)
    expect(names()).toEqual(['unbroken-vessel-stranger-1'])
    cluster.kubectl('delete', 'pod', 'unbroken-vessel-stranger-1', '-n', 'kiosk')
    await cluster.until(() => cluster.temporary() === 0)
  })
})

describe('what is gone', () => {
  const losses = async (name: string) =>
    (await openLosses(bench.engine)).filter(({ ways }) => ways.some(({ vessel: { slug } }) => slug === name))

  it('from a namespace, or with it, is told, and is still in its point', async () => {
    cluster.apply(namespace('slip', { team: 'slips' }), {
      apiVersion: 'v1',
      kind: 'ConfigMap',
      metadata: { name: 'bollards', namespace: 'slip' },
      data: { count: '12' },
    })
    cluster.kubectl('create', 'configmap', 'stays', '-n', 'slip')
    await discoverSource(bench.engine, sourceId)
    const slip = await vessel('Slip', rule('take', 'namespace', 'pier/*', 'team=slips'))
    const point = await newest(await bench.run('backup', slip))
    expect(await losses('slip')).toEqual([])
    cluster.kubectl('delete', 'configmap', 'bollards', '-n', 'slip')
    await discoverSource(bench.engine, sourceId)
    expect(await losses('slip')).toMatchObject([{ level: 'warning', what: '1 thing is gone from pier / slip: bollards.' }])
    const trouble = JSON.stringify({ code: 'source_unreachable', what: 'pier could not be reached.', touched: '', next: '' })
    await bench.engine.db.updateTable('source').set({ trouble }).where('id', '=', sourceId).execute()
    const levels = (await attentionNeeded(bench.engine, await standings(bench.engine))).map(({ level }) => level)
    expect([...levels].sort((a, b) => (a === b ? 0 : a === 'error' ? -1 : 1))).toEqual(levels)
    expect(levels).toContain('error')
    cluster.kubectl('delete', 'namespace', 'slip')
    await discoverSource(bench.engine, sourceId)
    const [loss] = await losses('slip')
    expect(loss).toMatchObject({ level: 'error', what: 'The namespace slip is gone from pier.' })
    expect(loss!.ways[0]!.to).toContain(`point=${point.id}`)
    expect(await objectYaml(point, 'pier/slip/core/ConfigMap/bollards')).toContain('count: "12"')
    const run = await bench.run('backup', slip)
    expect(run).toMatchObject({ state: 'failed', error: { code: 'nothing_taken' } })
  })
})

describe('what can’t be read', () => {
  it('is told: files, volumes that are not bound, kinds that may not be listed; the rest is kept', async () => {
    const folder = cluster.volume('receipts', 'kiosk')
    execFileSync('mkfifo', [join(folder, 'pipe')])
    cluster.apply(claim('waits', 'kiosk', 'none'))
    const kiosks = await vessel('Torn kiosks', rule('take', 'namespace', 'pier/kiosk'))
    const run = await bench.run('backup', kiosks)
    expect(run.state).toBe('warned')
    const told = (await bench.messages(run.id)).join('\n')
    expect(told).toContain('pier/kiosk/volume/waits is not covered. It is not bound')
    expect((await newest(run)).members[0]!.manifest.namespaces![0]!.volumes).toHaveLength(1)
    expect(readdirSync(folder)).toContain('pipe')
    // Another definition wants all of it or nothing.
    const { id, version, ...strict } = kiosks
    await saveDefinition(bench.engine, strict.slug, version, { ...strict.definition, partly: 'fail' })
    const points = () => bench.engine.db.selectFrom('point').select('id').where('vessel_id', '=', id).execute()
    expect(await points()).toHaveLength(1)
    const refused = await bench.run('backup', await vesselBySlug(bench.engine, strict.slug))
    expect(refused).toMatchObject({
      state: 'failed',
      error: { code: 'partly_captured', what: expect.stringContaining('pier/kiosk/volume/waits: It is not bound') },
    })
    expect(await points()).toHaveLength(1)
  })

  it('a snapshot that fails is read in place, a cluster that goes away ends the run and leaves nothing', async () => {
    cluster.apply(snapshots('berth', { stuck: 'true' }))
    cluster.kubectl('delete', 'volumesnapshotclass', 'berth')
    const boarding = await vessel('Boarding in place', rule('take', 'namespace', 'pier/boarding'))
    await discoverSource(bench.engine, sourceId)
    const run = await bench.run('backup', boarding)
    expect((await newest(run)).members[0]!.manifest.namespaces![0]!.volumes).toMatchObject([{ how: 'in place' }])
    const { folder, process: running } = cluster
    await cluster.stop()
    const failed = await bench.run('backup', boarding)
    expect(failed).toMatchObject({ state: 'failed', error: { code: 'unreachable' } })
    cluster = await TestCluster.start('pier', { folder, port: running.port })
    expect(cluster.temporary()).toBe(0)
  })
})
