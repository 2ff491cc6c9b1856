import { readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { ClusterWish } from '../../core/cluster/wish'
import { savedRestores, saveRestore } from '../../engine/catalog/saved-restores'
import { openPoint } from '../../engine/points/open'
import { takeBack } from '../../engine/runs/take-back'
import { BoardingBench, check, settled, wish } from '../support/boarding'
import { namespace } from '../support/cluster'

// Namespaces restored: where they were, under other names, on another cluster; and proven.

let boarding: BoardingBench

beforeAll(async () => {
  boarding = await BoardingBench.start()
})
afterAll(() => boarding?.close())

describe('a namespace on another cluster', () => {
  it('can’t go where its storage class, its namespace or a quota stands in the way, and the plan says so', async () => {
    const there = { source: 'islet', namespaces: { boarding: 'gates' } }
    expect((await boarding.plan(wish({}, there))).blockers).toEqual([
      {
        code: 'class_missing',
        what: expect.stringContaining('islet has no storage class berth'),
        next: 'Say which class is to be used in its place; there are: pontoon.',
      },
    ])
    const run = await boarding.bench.run('restore', boarding.vessel, { point: boarding.point, wish: wish({}, there), reason: null })
    expect(run).toMatchObject({ state: 'failed', error: { code: 'class_missing', touched: 'Nothing was changed.' } })
    boarding.islet.apply(namespace('narrow'), {
      apiVersion: 'v1',
      kind: 'ResourceQuota',
      metadata: { name: 'small', namespace: 'narrow' },
      spec: { hard: { configmaps: '0', 'requests.storage': '100Mi' } },
    })
    await boarding.islet.until(() => boarding.islet.json('get', 'resourcequota', 'small', '-n', 'narrow').status?.hard !== undefined)
    const narrow = await boarding.plan(wish({}, { ...there, namespaces: { boarding: 'narrow' }, classes: { berth: 'pontoon' } }))
    expect(narrow.blockers.map(({ code }) => code)).toEqual(['over_quota', 'over_quota'])
    expect(narrow.blockers.map(({ what }) => what).join()).toContain('1024Mi more would come')
    boarding.islet.kubectl('delete', 'namespace', 'narrow')
  })

  it('saved under a name is planned again as it was', async () => {
    const asked = wish(
      {},
      {
        source: 'islet',
        namespaces: { boarding: 'gates' },
        classes: { berth: 'pontoon' },
        after: [check('manifestctl', 'verify', '/data')],
      },
    )
    const id = await saveRestore(boarding.bench.engine, boarding.vessel, 'To the islet', asked, 'as every month')
    const saved = (await savedRestores(boarding.bench.engine, boarding.vessel.id)).find((restore) => restore.id === id)!
    expect([saved.wish, saved.reason]).toEqual([asked, 'as every month'])
    const [first, again] = await Promise.all([boarding.plan(asked), boarding.plan(saved.wish)])
    expect(again).toEqual(first)
    expect(again.operations.length).toBeGreaterThan(5)
  })

  it('comes back under another name, with another class, file by file, and passes its own check', async () => {
    const cluster: Partial<ClusterWish> = {
      source: 'islet',
      namespaces: { boarding: 'gates' },
      classes: { berth: 'pontoon' },
      labels: { copy: 'yes', team: null },
      registries: { 'images.quellmark.example/boarding': 'mirror.islet.example/gates' },
      changes: [{ kind: 'ConfigMap', name: 'sett*', patch: [{ op: 'replace', path: '/data/LANES', value: '1' }] }],
      exposure: 'unplug',
      after: [check('manifestctl', 'verify', '/data')],
    }
    const { run, receipts, of } = await boarding.bringBack(wish({}, cluster))
    expect([run.error, await boarding.bench.messages(run.id)]).toEqual([null, []])
    const { objects, files, bytes } = run.counters
    expect(run.counters).toMatchObject({ 'objects expected': objects, 'files expected': files, 'bytes expected': bytes })
    // Every file is read back, and counted once.
    expect(run.counters).toMatchObject({ 'files checked': files, 'files checked expected': files })
    expect(run.state).toBe('done')
    expect(receipts.filter(({ equal }) => equal === false)).toEqual([])
    const volume = receipts.find(({ path }) => path === 'pier/boarding/volume/data-manifest-0')!
    expect(volume).toMatchObject({ target: 'islet/gates/volume/data-manifest-0', outcome: 'made', equal: true })
    expect(volume.fingerprint_now).toBe(volume.fingerprint_then)
    expect(receipts.at(-1)).toMatchObject({ path: 'check', outcome: 'made', equal: true, reason: expect.stringContaining('entries=') })
    expect(of('settings')).toMatchObject({ outcome: 'made', equal: true })
    // What a person would look at, with a client that is not ours.
    const home = ['-n', 'gates'] as const
    expect(boarding.islet.json('get', 'configmap', 'settings', ...home).data).toEqual({ LANES: '1' })
    expect(boarding.islet.json('get', 'deployment', 'scanner', ...home)).toMatchObject({
      metadata: { labels: { copy: 'yes' } },
      spec: { replicas: 2, template: { spec: { containers: [{ image: 'mirror.islet.example/gates/gate-scanner:4.0' }] } } },
      status: { readyReplicas: 2 },
    })
    expect(boarding.islet.json('get', 'pvc', 'data-manifest-0', ...home).spec.storageClassName).toBe('pontoon')
    expect(boarding.islet.json('get', 'rolebinding', 'reads', ...home).subjects[0].namespace).toBe('gates')
    expect(boarding.islet.json('get', 'service', 'manifest', ...home).spec.type).toBe('ClusterIP')
    expect(boarding.islet.json('get', 'ingress', 'gate', ...home).spec.ingressClassName).toBe('unplugged')
    expect(boarding.islet.json('get', 'lane', 'foot', ...home).spec.width).toBe(2)
    expect(boarding.islet.json('get', 'namespace', 'gates').metadata.labels).toMatchObject({ copy: 'yes' })
    const folder = boarding.islet.volume('data-manifest-0', 'gates')
    expect(readFileSync(join(folder, 'archive', 'first'), 'utf8')).toBe('one\n')
    expect(statSync(join(folder, 'archive', 'november', '01.txt')).mode & 0o777).toBe(0o640)
    expect(statSync(join(folder, 'large.bin')).size).toBe(9_000_000)
    expect(boarding.islet.temporary()).toBe(0)
  })

  it('is the same the second time, and what differs is skipped, merged or replaced as is wished', async () => {
    boarding.islet.kubectl('patch', 'configmap', 'settings', '-n', 'gates', '--type=merge', '-p', '{"data":{"LANES":"9","MORE":"x"}}')
    const cluster: Partial<ClusterWish> = { source: 'islet', namespaces: { boarding: 'gates' }, classes: { berth: 'pontoon' } }
    const picks = ['pier/boarding/core/ConfigMap/settings', 'pier/boarding/core/Secret/keys']
    const skipped = await boarding.bringBack(wish({ picks, collide: 'skip' }, cluster))
    expect(skipped.of('settings')).toMatchObject({ outcome: 'left', reason: 'Something of this name stands there and stays.' })
    expect(skipped.of('keys')).toMatchObject({ outcome: 'left', equal: true, reason: 'It stands there as it was.' })
    const merged = await boarding.bringBack(wish({ picks, collide: 'merge' }, cluster))
    expect([merged.run.error, merged.of('settings')]).toMatchObject([null, { outcome: 'merged', equal: true }])
    expect(boarding.islet.json('get', 'configmap', 'settings', '-n', 'gates').data).toEqual({ LANES: '4', MORE: 'x' })
    boarding.islet.kubectl('patch', 'configmap', 'settings', '-n', 'gates', '--type=merge', '-p', '{"data":{"LANES":"9"}}')
    const renamed = await boarding.bringBack(wish({ picks, collide: 'rename' }, cluster))
    expect(renamed.of('settings-then')).toMatchObject({ outcome: 'renamed', equal: true })
    const replaced = await boarding.bringBack(wish({ picks }, cluster))
    expect(replaced.of('settings')).toMatchObject({ outcome: 'replaced', equal: true })
    expect(boarding.islet.json('get', 'configmap', 'settings', '-n', 'gates').data).toEqual({ LANES: '4' })
    // What was replaced is a point of its own, and the return can be taken back.
    const back = await boarding.bench.run('restore', boarding.vessel, { ...(await takeBack(boarding.bench.engine, replaced.run.id)) })
    expect([back.error, back.state]).toEqual([null, 'done'])
    expect(boarding.islet.json('get', 'configmap', 'settings', '-n', 'gates').data).toEqual({ LANES: '9', MORE: 'x' })
  })
})

describe('a namespace in its own place', () => {
  it('gets back what changed, with its volume, while nothing uses it; and is ready again', async () => {
    const folder = boarding.pier.volume('data-manifest-0', 'boarding')
    writeFileSync(join(folder, 'archive', 'november', '02.txt'), 'damaged\n')
    writeFileSync(join(folder, 'new.txt'), 'not of then')
    boarding.pier.kubectl('delete', 'service', 'manifest', '-n', 'boarding')
    const { run, receipts, of } = await boarding.bringBack(wish({}, { after: [check('manifestctl', 'verify', '/data')] }))
    expect([run.error, run.state]).toEqual([null, 'done'])
    expect(of('volume/data-manifest-0')).toMatchObject({ outcome: 'replaced', equal: true })
    expect(of('Service/manifest')).toMatchObject({ outcome: 'made', equal: true })
    expect(of('settings')).toMatchObject({ outcome: 'left', equal: true })
    expect(receipts.at(-1)).toMatchObject({ path: 'check', equal: true })
    expect(readFileSync(join(folder, 'archive', 'november', '02.txt'), 'utf8')).toBe('two\n')
    expect(readdirSync(folder)).not.toContain('new.txt')
    settled(boarding.pier, 'boarding')
    const kept = await openPoint(
      boarding.bench.engine,
      (await boarding.bench.engine.db.selectFrom('point').select('id').where('kept_for', '=', run.id).executeTakeFirstOrThrow()).id,
    )
    expect(kept.members[0]!.manifest.namespaces![0]!.volumes[0]!.files).toBe(6)
  })

  it('gets back single files, and nothing else of the volume changes', async () => {
    const folder = boarding.pier.volume('data-manifest-0', 'boarding')
    for (const day of ['01', '02']) writeFileSync(join(folder, 'archive', 'november', `${day}.txt`), 'damaged\n')
    const files = { 'pier/boarding/volume/data-manifest-0': ['archive/november/01.txt'] }
    const { run, of } = await boarding.bringBack(wish({ picks: [] }, { files }))
    expect([run.error, run.state]).toEqual([null, 'done'])
    expect(of('volume/data-manifest-0')).toMatchObject({ outcome: 'merged', rows: 1, equal: true })
    expect(['01', '02'].map((day) => readFileSync(join(folder, 'archive', 'november', `${day}.txt`), 'utf8'))).toEqual([
      'one\n',
      'damaged\n',
    ])
    settled(boarding.pier, 'boarding')
    expect(boarding.pier.json('get', 'statefulset', 'manifest', '-n', 'boarding').spec.replicas).toBe(1)
  })

  it('comes beside itself with a prefix, and everything refers to the new names', async () => {
    const asked = wish({}, { prefix: 'old-', exposure: 'leave' })
    const { warnings } = await boarding.plan(asked)
    expect(warnings).toEqual(['The service manifest would send to old-manifest as well, because its pods bear the same labels.'])
    const { run, receipts } = await boarding.bringBack(asked)
    expect(run.error).toBeNull()
    expect(receipts.filter(({ equal }) => equal === false)).toEqual([])
    const copy = boarding.pier.json('get', 'deployment', 'old-scanner', '-n', 'boarding').spec.template.spec
    expect(copy).toMatchObject({
      serviceAccountName: 'old-gatekeeper',
      containers: [{ envFrom: [{ configMapRef: { name: 'old-settings' } }, { secretRef: { name: 'old-keys' } }] }],
    })
    expect(boarding.pier.json('get', 'rolebinding', 'old-reads', '-n', 'boarding')).toMatchObject({
      roleRef: { name: 'old-reader' },
      subjects: [{ name: 'old-gatekeeper' }],
    })
    expect(boarding.pier.json('get', 'pvc', 'data-old-manifest-0', '-n', 'boarding').status.phase).toBe('Bound')
    const volume = boarding.pier.volume('data-old-manifest-0', 'boarding')
    expect(readFileSync(join(volume, 'archive', 'november', '02.txt'), 'utf8')).toBe('two\n')
  })

  it('comes back whole when it is gone', async () => {
    boarding.pier.kubectl('delete', 'namespace', 'boarding')
    const rehearsed = await boarding.bringBack(wish({}), 'rehearsal')
    expect([rehearsed.run.error, rehearsed.run.state]).toEqual([null, 'done'])
    expect(boarding.pier.run(['get', 'namespace', 'boarding']).status).not.toBe(0)
    const { run, receipts } = await boarding.bringBack(wish({}, { after: [check('manifestctl', 'verify', '/data')] }))
    expect([run.error, run.state]).toEqual([null, 'done'])
    expect(receipts.filter(({ equal }) => equal === false)).toEqual([])
    settled(boarding.pier, 'boarding')
    expect(boarding.pier.json('get', 'namespace', 'boarding').metadata.labels).toMatchObject({ team: 'gates' })
    expect(boarding.pier.temporary()).toBe(0)
  })
})
