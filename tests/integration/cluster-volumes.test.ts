import type { FileEntry } from '../../core/content/manifest'
import { execFileSync } from 'node:child_process'
import { randomBytes, randomUUID } from 'node:crypto'
import { chmodSync, linkSync, mkdirSync, readFileSync, renameSync, rmSync, statSync, utimesSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { buffer } from 'node:stream/consumers'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { clusterWishOf } from '../../core/cluster/wish'
import { addRun } from '../../engine/catalog/runs'
import { addSource, clusterAccessOf } from '../../engine/catalog/sources'
import { addVessel, type Vessel } from '../../engine/catalog/vessels'
import { compareVolume } from '../../engine/compare/cluster'
import { entriesOf, openFile, volumeTar } from '../../engine/look/cluster'
import { openPoint, type OpenPoint } from '../../engine/points/open'
import { readKubeconfig } from '../../engine/sources/kubernetes/access'
import { ClusterClient, type KubeObject } from '../../engine/sources/kubernetes/client'
import { lookAtVolume } from '../../engine/sources/kubernetes/fill'
import { Temporary } from '../../engine/sources/kubernetes/temporary'
import { readerPod } from '../../engine/sources/kubernetes/volumes'
import { claim, holder, namespace, storage, TestCluster } from '../support/cluster'
import { Workbench } from '../support/engine'
import { ownFolder } from '../support/folder'

// Volumes read again: only what changed travels, and what is kept is what is there all the same.

const VOLUME = 'pier/kiosk/volume/receipts'
let cluster: TestCluster
let bench: Workbench
let kiosks: Vessel
let folder: string
/** Long enough ago that a time tells whether a file was changed. */
const LONG_AGO = new Date('2026-10-01T08:00:00Z')

const file = (name: string) => join(folder, name)
const write = (name: string, text: string) => {
  writeFileSync(file(name), text)
  utimesSync(file(name), LONG_AGO, LONG_AGO)
}
async function backup(): Promise<{ point: OpenPoint; told: string[]; stored: number }> {
  const run = await bench.run('backup', kiosks)
  expect(run.error).toBeNull()
  const { point, stored } = run.outcome as { point: string; stored: number }
  return { point: await openPoint(bench.engine, point), told: await bench.messages(run.id), stored }
}
const filesOf = async (point: OpenPoint) => {
  const files: FileEntry[] = []
  for await (const entry of entriesOf(point.store, point.members[0]!.manifest.namespaces![0]!.volumes[0]!)) files.push(entry)
  return files
}
async function isAsOnDisk(point: OpenPoint): Promise<void> {
  const out = ownFolder('out')
  execFileSync('tar', ['-x', '-C', out], { input: await buffer(await volumeTar(point, VOLUME)) })
  expect(execFileSync('diff', ['-r', '--no-dereference', folder, out]).toString()).toBe('')
}
/** The times that tell of changes must lie back long enough to be trusted. */
const settle = () => new Promise((resolve) => setTimeout(resolve, 3100))

beforeAll(async () => {
  ;[cluster, bench] = await Promise.all([TestCluster.start('pier'), Workbench.open()])
  cluster.apply(storage('rope'), namespace('kiosk'), claim('receipts', 'kiosk', 'rope'), holder('kiosk', 'receipts'))
  await cluster.until(() => cluster.json('get', 'pvc', 'receipts', '-n', 'kiosk').status.phase === 'Bound')
  folder = cluster.volume('receipts', 'kiosk')
  mkdirSync(file('november'))
  for (let i = 0; i < 40; i++) write(`november/${i}.txt`, `receipt ${i}`)
  write('two-names', 'the same')
  linkSync(file('two-names'), file('other-name'))
  await addSource(bench.engine, { name: 'pier', ...readKubeconfig(readFileSync(cluster.process.kubeconfig, 'utf8')) })
  kiosks = await addVessel(bench.engine, 'Kiosks', {
    rules: [{ id: 'a', act: 'take', kind: 'namespace', pattern: 'pier/kiosk' }],
    store: 'dry-dock',
    promises: { couldLose: null, backWithin: null },
    readers: 2,
  })
})
afterAll(async () => {
  await bench?.close()
  await cluster?.stop()
})

describe('a volume that was read before', () => {
  it('is read only where it changed, by size and times', async () => {
    await settle()
    expect((await backup()).told).toEqual([])
    write('november/3.txt', 'another one, and longer')
    renameSync(file('november/4.txt'), file('november/four.txt'))
    rmSync(file('november/5.txt'))
    const { point, told } = await backup()
    expect(told).toEqual([`${VOLUME}: 37 of 40 files are as they were; they were not read again.`])
    await isAsOnDisk(point)
    expect(await backup()).toMatchObject({
      told: [`${VOLUME}: 39 of 40 files are as they were, 2 of them by checksum; they were not read again.`],
    })
  })

  it('finds a change that left size and time as they were', async () => {
    write('november/7.txt', 'RECEIPT 7')
    const { point } = await backup()
    const { stream } = await openFile(point, VOLUME, 'november/7.txt')
    expect((await buffer(stream)).toString()).toBe('RECEIPT 7')
    await isAsOnDisk(point)
  })

  it('takes over new rights and owners without reading the content again', async () => {
    await settle()
    await backup()
    chmodSync(file('november/8.txt'), 0o600)
    const { point, told } = await backup()
    expect(told[0]).toContain('1 of them by checksum')
    expect((await filesOf(point)).find(({ path }) => path === 'november/8.txt')).toMatchObject({ mode: 0o600, size: 9 })
  })

  it('reads again what the store does not hold any more', async () => {
    const { point } = await backup()
    const lost = (await filesOf(point)).find(({ path }) => path === 'november/9.txt')!
    await bench.engine.db.deleteFrom('chunk').where('name', '=', Buffer.from(lost.chunks![0]!, 'hex')).execute()
    await expect(openFile(point, VOLUME, lost.path).then(({ stream }) => buffer(stream))).rejects.toThrow('does not hold the chunk')
    const again = await backup()
    const { stream } = await openFile(again.point, VOLUME, lost.path)
    expect((await buffer(stream)).toString()).toBe('receipt 9')
  })

  it('keeps names that are no text, and links in whatever order they come', async () => {
    const odd = Buffer.concat([Buffer.from(`${folder}/`), Buffer.from([0xff, 0xfe, 0x41])])
    writeFileSync(odd, 'odd')
    writeFileSync(file('a\nb\tc'), 'lines')
    const { point, told } = await backup()
    expect(told).toHaveLength(1)
    const all = await filesOf(point)
    expect(all.filter(({ type }) => type === 'hard-link').map(({ path, target }) => [path, target])).toEqual([['two-names', 'other-name']])
    expect(all.find(({ path }) => path === 'a\nb\tc')).toMatchObject({ size: 5 })
    const before = await backup()
    expect((await filesOf(before.point)).filter(({ path }) => path.endsWith('A'))).toMatchObject([{ size: 3 }])
    rmSync(odd)
  })

  it('has the times of its files to the thousandth of a second, also when it comes back', async () => {
    utimesSync(file('november/1.txt'), LONG_AGO, new Date('2026-10-02T08:00:00.123Z'))
    const { point } = await backup()
    rmSync(file('november/1.txt'))
    const { run } = await bench.restore(kiosks, point.id, {
      picks: ['pier/kiosk'],
      cluster: clusterWishOf({ files: { [VOLUME]: ['november/1.txt'] } }),
    })
    expect(run.error).toBeNull()
    // What stands there is kept first, without reading again what the point has; only what is picked is expected, and comes.
    expect((await bench.messages(run.id)).filter((text) => /files are as they were/.test(text))).toHaveLength(1)
    expect(run.counters).toMatchObject({ files: 1, 'files expected': 1, 'files checked': 1, 'bytes expected': run.counters.bytes })
    expect(statSync(file('november/1.txt')).mtime.toISOString()).toBe('2026-10-02T08:00:00.123Z')
  })
})

describe('a volume that is filled', () => {
  it('is proven by the checksum of every file, though its times and sizes are as they were', async () => {
    const { point } = await backup()
    const entries = await filesOf(point)
    const [first, another] = ['november/1.txt', 'november/2.txt'].map((path) => entries.find((entry) => entry.path === path)!)
    const text = readFileSync(file(first!.path), 'utf8')
    writeFileSync(file(first!.path), text.replaceAll(/[a-z0-9]/g, 'x'))
    utimesSync(file(first!.path), LONG_AGO, new Date(first!.mtime))
    const wanted = async function* () {
      for (const { changed: _, ...entry } of [first!, another!]) yield entry
    }
    const found = await ClusterClient.with(await clusterAccessOf(bench.engine, 'pier'), async (client) => {
      const signal = new AbortController().signal
      const temporary = new Temporary(client, await client.resources(), randomUUID(), signal)
      const claim = cluster.json('get', 'pvc', 'receipts', '-n', 'kiosk') as KubeObject
      const target = await readerPod(client, temporary, { path: VOLUME, claim }, 'receipts')
      return lookAtVolume(client, target, VOLUME, signal, wanted, true).finally(() => temporary.removeAll())
    })
    // Nothing else was looked at, and only what is another one was read.
    const there = [...found.entries]
    expect(there.map(({ path }) => path)).toEqual([first!.path, another!.path])
    expect([found.unread, found.compared]).toEqual([1, 1])
    expect(there[1]).toMatchObject({ digest: another!.digest })
    expect(there[0]!.digest).not.toBe(first!.digest)
    writeFileSync(file(first!.path), text)
  })
})

describe('a volume now', () => {
  it('is compared with a point file by file, and nothing of that stays', async () => {
    const { point } = await backup()
    write('november/20.txt', 'another')
    write('november/new.txt', 'new')
    rmSync(file('november/21.txt'))
    const { files, counts, against, trouble } = await compareVolume(bench.engine, point, VOLUME, null)
    expect([against.id, trouble]).toEqual([null, null])
    expect(files.slice(0, 3).map(({ path, mark }) => [path, mark])).toEqual([
      ['november/21.txt', 'gone'],
      ['november/20.txt', 'changed'],
      ['november/new.txt', 'new'],
    ])
    expect(counts).toMatchObject({ gone: 1, changed: 1, new: 1 })
    expect(cluster.temporary()).toBe(0)
  })

  it('that can’t be looked at leaves the files of then to be picked, and says why', async () => {
    const { point } = await backup()
    cluster.apply({
      apiVersion: 'v1',
      kind: 'ResourceQuota',
      metadata: { name: 'full', namespace: 'kiosk' },
      spec: { hard: { pods: '1' } },
    })
    const { files, trouble } = await compareVolume(bench.engine, point, VOLUME, null)
    expect(trouble?.what).toContain('exceeded quota')
    expect(files.length).toBeGreaterThan(30)
    cluster.kubectl('delete', 'resourcequota', 'full', '-n', 'kiosk')
  })
})

describe('a volume that takes no more', () => {
  it('ends its return, on the record, and nothing of ours stays', async () => {
    writeFileSync(file('large.bin'), Buffer.alloc(900_000, 'receipt '))
    const { point } = await backup()
    cluster.apply(storage('thimble', { parameters: { largestFile: '200000' } }))
    const { run, receipts } = await bench.restore(kiosks, point.id, {
      picks: ['pier/kiosk'],
      cluster: clusterWishOf({ namespaces: { kiosk: 'small' }, classes: { rope: 'thimble' } }),
    })
    const failed = receipts.find(({ target }) => target.endsWith('/receipts') && target.includes('/volume/'))
    expect([run.state, failed?.outcome, JSON.stringify([run.error, failed])]).toEqual([
      expect.stringMatching(/failed|warned/),
      'failed',
      expect.stringContaining('has no room for it'),
    ])
    expect(cluster.temporary()).toBe(0)
    cluster.kubectl('delete', 'namespace', 'small')
  })
})

describe('in the middle of reading', () => {
  const faults: [string, () => unknown, string[]][] = [
    ['a token that runs out', () => cluster.process.expire('administrator of pier'), ['token_refused']],
    ['a cluster that goes away', () => cluster.stop('SIGKILL'), ['connection_lost', 'unreachable']],
  ]
  it.each(faults)('%s ends the backup with what to do, and the next one removes what was left', async (_, cause, codes) => {
    const points = () => bench.engine.db.selectFrom('point').select('id').where('vessel_id', '=', kiosks.id).execute()
    const before = await points()
    const id = await addRun(bench.engine, { kind: 'backup', vessel: kiosks, startedBy: 'a test', params: {} })
    const caused = await bench.performUntil(id, { kind: 'volume' }, cause)
    const run = await bench.record(id)
    expect([caused, run.state]).toEqual([true, 'failed'])
    expect(codes).toContain((run.error as { code: string }).code)
    expect(await points()).toEqual(before)
    const { port } = cluster.process
    await cluster.stop()
    cluster = await TestCluster.start('pier', { folder: cluster.folder, port })
    await isAsOnDisk((await backup()).point)
    await cluster.until(() => cluster.temporary() === 0)
  })
})

describe('a cluster that can’t tell a command that its input has ended', () => {
  it('has its volumes read where they changed, and filled, like any other', async () => {
    const old = await TestCluster.start('old', { without: ['v5.channel.k8s.io'] })
    try {
      old.apply(storage('rope'), namespace('kiosk'), claim('receipts', 'kiosk', 'rope'), holder('kiosk', 'receipts'))
      await old.until(() => old.json('get', 'pvc', 'receipts', '-n', 'kiosk').status.phase === 'Bound')
      const large = randomBytes(9_000_001)
      const fill = (name: string, content: string | Buffer) => writeFileSync(join(old.volume('receipts', 'kiosk'), name), content)
      fill('a.txt', 'coffee')
      fill('large', large)
      await addSource(bench.engine, { name: 'old', ...readKubeconfig(readFileSync(old.process.kubeconfig, 'utf8')) })
      const vessel = await addVessel(bench.engine, 'Old kiosks', {
        rules: [{ id: 'a', act: 'take', kind: 'namespace', pattern: 'old/kiosk' }],
        store: 'dry-dock',
        promises: { couldLose: null, backWithin: null },
        readers: 2,
      })
      await settle()
      await bench.run('backup', vessel)
      fill('b.txt', 'tea')
      const run = await bench.run('backup', vessel)
      expect([run.error, await bench.messages(run.id)]).toEqual([
        null,
        ['old/kiosk/volume/receipts: 2 of 3 files are as they were; they were not read again.'],
      ])
      const { receipts } = await bench.restore(vessel, (run.outcome as { point: string }).point, {
        picks: ['old/kiosk'],
        cluster: clusterWishOf({ namespaces: { kiosk: 'other' } }),
      })
      expect(receipts.find(({ target }) => target.includes('/volume/'))).toMatchObject({ outcome: 'made', equal: true })
      const back = (name: string) => readFileSync(join(old.volume('receipts', 'other'), name))
      expect([back('a.txt').toString(), back('b.txt').toString(), back('large').equals(large)]).toEqual(['coffee', 'tea', true])
      expect(old.temporary()).toBe(0)
    } finally {
      await old.stop()
    }
  })
})
