import { execFileSync } from 'node:child_process'
import { appendFileSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { afterAll, afterEach, beforeAll, expect, inject, it, vi } from 'vitest'
import { ClusterClient } from '../../../engine/sources/kubernetes/client'
import { execute, Tail } from '../../../engine/sources/kubernetes/exec'
import { readKubeconfig } from '../../../engine/sources/kubernetes/access'
import { Person } from '../../support/browser'
import { manifestService, namespace, snapshots, storage, TestCluster } from '../../support/cluster'

// A namespace is held still while it is backed up, lost, and restored on another cluster; with proof.

export function holdAndReturn(): void {
  let person: Person
  let wharf: TestCluster
  let islet: TestCluster
  const folderOf = (cluster: TestCluster, home: string) => cluster.volume('data-manifest-0', home)

  /** What the service says of itself, asked past our application. */
  async function isHeld(): Promise<boolean> {
    const client = new ClusterClient({ name: 'wharf', ...readKubeconfig(readFileSync(wharf.process.kubeconfig, 'utf8')) })
    const out = new Tail()
    const target = { namespace: 'boarding', pod: 'manifest-0', container: 'service' }
    await execute(client, target, ['manifestctl', 'status'], out, AbortSignal.timeout(10_000)).finally(() => client.close())
    return out.text.includes('held=true')
  }
  async function addsStep(name: string, hold: string, release: string): Promise<void> {
    await person.clicks('[data-add-step]')
    await person.writes('#step-name', name)
    await person.writes('[aria-label="Holds by: command"]', hold)
    await person.writes('[aria-label="Labels of the pods"]', 'app=manifest')
    await person.writes('[aria-label="Releases by: command"]', release)
  }

  async function send(path: string, body: object): Promise<void> {
    const headers = { 'content-type': 'application/json' }
    const answer = await fetch(inject('url') + path, { method: 'POST', headers, body: JSON.stringify(body) })
    expect([answer.status, answer.ok ? '' : await answer.text()]).toEqual([201, ''])
  }

  beforeAll(async () => {
    ;[person, wharf, islet] = await Promise.all([Person.at(inject('url')), TestCluster.start('wharf'), TestCluster.start('islet')])
    wharf.apply(storage('berth'), snapshots('berth'), namespace('boarding'), manifestService('boarding', 'berth'), {
      apiVersion: 'v1',
      kind: 'ConfigMap',
      metadata: { name: 'settings', namespace: 'boarding' },
      data: { LANES: '4' },
    })
    islet.apply(storage('pontoon'))
    wharf.kubectl('wait', '--for=condition=Ready', 'pod/manifest-0', '-n', 'boarding', '--timeout=30s')
    writeFileSync(join(folderOf(wharf, 'boarding'), 'lanes.txt'), 'four lanes, two for vehicles\n')
    // Run by itself it finds no store that an earlier way has made.
    const stores = (await (await fetch(`${inject('url')}/api/stores`)).json()) as unknown[]
    if (stores.length === 0) await send('/api/stores', { name: 'dry-dock', path: join(wharf.folder, 'dry-dock') })
    for (const [name, cluster] of [
      ['wharf', wharf],
      ['islet', islet],
    ] as const) {
      const kubeconfig = readFileSync(cluster.process.kubeconfig, 'utf8')
      await send('/api/sources', { name, kubeconfig })
    }
  })
  afterEach(() => expect(person.complaints).toEqual([]))
  afterAll(async () => {
    await person?.leaves()
    await wharf?.stop()
    await islet?.stop()
  })

  it('says how it is held still, and rehearses that for real', async () => {
    await person.opens('/vessels/new?take=wharf/boarding')
    await person.writes('input[name=vessel-name]', 'Wharf gate')
    await person.sees('Nothing is held.')
    await addsStep('pause', 'manifestctl hold', '')
    await person.sees('of its release, it has no command')
    await person.writes('[aria-label="Releases by: command"]', 'manifestctl release')
    await person.presses('Save as version 1')
    await person.arrivesAt(/\/vessels\/wharf-gate$/)
    await person.opens('/vessels/wharf-gate/definition')
    await person.clicks('[data-rehearse-hold]')
    await person.sees(/as measured by the rehearsal/)
    await person.clicks('[data-step-bar="pause"]')
    await person.sees(/Held after [\d.]+ m?s/)
    await person.sees('held=true')
    expect(await isHeld()).toBe(false)
  })

  it('orders steps by keys, and tells on every page what is held, until it is released', async () => {
    await addsStep('wait', 'sleep 20', 'true')
    await person.writes('#step-limit', '20')
    await person.writes('#quiesce-budget', '30')
    await person.reads('[data-step-bar="wait"]', /wait/)
    const turn = () => person.page.$eval('[data-step-bar="wait"]', (bar) => bar.getAttribute('aria-label') ?? '')
    expect(await turn()).toContain('wait, turn 2')
    await person.page.focus('[data-step-bar="wait"]')
    await person.page.keyboard.press('ArrowLeft')
    expect(await turn()).toContain('wait, turn 1')
    await person.page.keyboard.press('ArrowRight')
    expect(await turn()).toContain('wait, turn 2')
    await person.clicks('[data-rehearse-hold]')
    await person.sees(/Holding Wharf gate/)
    await person.sees(/s of 30 s/)
    // The strip stands from the first step on; that one may just be beginning.
    await vi.waitFor(async () => expect(await isHeld()).toBe(true), { timeout: 10_000, interval: 100 })
    await person.clicks('[data-release-now]')
    await person.page.waitForFunction(() => !document.querySelector('[data-hold-strip] [data-release-now]'), { timeout: 30_000 })
    expect(await isHeld()).toBe(false)
    await person.presses('Discard changes')
  })

  it('is backed up while it is held, and the point says so', async () => {
    await person.opens('/vessels/wharf-gate')
    await person.sees('it has no recovery point yet')
    await person.page.keyboard.press('b')
    // Which ways could begin is said before one is chosen: a namespace has no log.
    await person.page.waitForSelector('[role=dialog] [data-choice=audit][data-obstacle]')
    await person.sees('Wharf gate has no full yet that it could build upon.')
    await person.clicks('[role=dialog] button[type=submit]')
    await person.arrivesAt(/\/runs\/[0-9a-f-]{36}$/)
    await person.sees(/A new point of Wharf gate: \d+ objects and 3 files/)
    const steps = await person.texts('[data-step]')
    expect(steps.filter((step) => /^(Hold|Release): pause/.test(step))).toHaveLength(2)
    // Every line of the member shows when it stood still; the manifest is of no member.
    const held = await person.page.$$eval('[data-held]', (all) => all.length)
    expect(held).toBe(steps.filter((step) => !step.startsWith('Manifest')).length)
    await person.opens('/vessels/wharf-gate')
    await person.sees('Consistent together.')
    await person.reads('[data-reached]', /^wharf\/boarding consistent together\. Held for /)
  })

  it('comes back on another cluster under another name and with another storage class when it is gone', async () => {
    wharf.kubectl('delete', 'namespace', 'boarding')
    await person.opens('/vessels/wharf-gate/restore?pick=wharf/boarding')
    await person.sees(/gone/)
    await person.chooses('[aria-label="Into which cluster"]', 'islet')
    await person.sees('islet has no storage class berth')
    await person.writes('[name="namespace-boarding"]', 'gates')
    await person.clicks('[data-mapping]')
    await person.chooses('[aria-label="In place of storage class berth"]', 'pontoon')
    await person.writes('#map-after', 'manifestctl verify /data')
    await person.writes('[aria-label="In which pod"]', 'app=manifest')
    await person.page.keyboard.press('Escape')
    await person.sees('Make namespace gates on islet')
    await person.sees('Run manifestctl verify /data')
    await person.clicks('[data-go]')
    await person.arrivesAt(/\/runs\/[0-9a-f-]{36}$/)
    await person.sees('restored into gates of islet, proven equal')
    const lines = await person.texts('[data-receipt]')
    expect(lines.find((line) => line.startsWith('volume data-manifest-0'))).toContain('Every file equal')
    expect(lines.find((line) => line.startsWith('check'))).toContain('passed')
    expect(lines.find((line) => line.startsWith('ConfigMap settings'))).toContain('Every field as then')
    // Looked at past our application.
    expect(islet.json('get', 'pvc', 'data-manifest-0', '-n', 'gates').spec.storageClassName).toBe('pontoon')
    expect(islet.json('get', 'statefulset', 'manifest', '-n', 'gates').status.readyReplicas).toBe(1)
    expect(readFileSync(join(folderOf(islet, 'gates'), 'lanes.txt'), 'utf8')).toBe('four lanes, two for vehicles\n')
  })

  it('brings single files back, chosen by what they became since', async () => {
    wharf.apply(namespace('boarding'))
    await person.opens('/vessels/wharf-gate/restore?pick=wharf/boarding')
    await person.sees('3 objects and 1 volume are restored to boarding of wharf')
    await person.clicks('[data-go]')
    await person.sees('restored, proven equal')
    wharf.kubectl('wait', '--for=condition=Ready', 'pod/manifest-0', '-n', 'boarding', '--timeout=30s')
    writeFileSync(join(folderOf(wharf, 'boarding'), 'lanes.txt'), 'no lanes at all\n')
    wharf.kubectl('patch', 'configmap', 'settings', '-n', 'boarding', '--type=merge', '-p', '{"data":{"LANES":"9"}}')
    await person.opens('/vessels/wharf-gate/restore?show=wharf/boarding/core/ConfigMap/settings')
    await person.reads('[data-field]', /^data\.LANES 4 9$/)
    await person.opens('/vessels/wharf-gate/restore?show=wharf/boarding/volume/data-manifest-0')
    await person.reads('[data-file][data-mark="changed"]:has([title="lanes.txt"])', /lanes\.txt changed/)
    await person.clicks('[aria-label="Restore lanes.txt"]')
    await person.sees('Files of the same name are overwritten; others stay.')
    await person.writes('input[name=reason]', 'lanes were lost')
    await person.clicks('[data-go]')
    await person.arrivesAt(/\/runs\/[0-9a-f-]{36}$/)
    await person.sees('Every file equal')
    expect(readFileSync(join(folderOf(wharf, 'boarding'), 'lanes.txt'), 'utf8')).toBe('four lanes, two for vehicles\n')
  })

  it('is offered as a copy beside the living one under a dated name, which the address keeps with all else', async () => {
    await person.opens('/vessels/wharf-gate/restore')
    await person.clicks('[data-pick-by-kind]')
    await person.clicks('[aria-label="Kinds"]')
    await person.clicks('[role=option]::-p-text(ConfigMap)')
    await person.page.keyboard.press('Escape')
    await person.presses('Pick them')
    await person.sees(/1 object is restored to boarding of wharf|All of it exists as it was/)
    await person.clicks('[data-choice=copy]')
    await person.sees(/1 object is restored to boarding-\d{4}-\d\d-\d\d of wharf/)
    await person.sees('Make namespace boarding-')
    await person.sees(/\d rights? at wharf (is|are) needed/)
    await person.arrivesAt(/\?(.*&)?wish=[\w-]{16}/)
    const address = person.page.url()
    await person.page.reload()
    await person.sees(/1 object is restored to boarding-\d{4}-\d\d-\d\d of wharf/)
    expect(person.page.url()).toBe(address)
  })

  it('gives out ticked files as one archive', async () => {
    await person.opens('/vessels/wharf-gate/contents?show=wharf/boarding/volume/data-manifest-0')
    await person.sees('read from a snapshot of')
    await person.clicks('[aria-label="Tick lanes.txt for the archive"]')
    const asked = person.page.waitForRequest((request) => request.url().includes('take-cluster'))
    await person.clicks('[data-export-ticked]')
    const archive = Buffer.from(await (await fetch((await asked).url())).arrayBuffer())
    expect(execFileSync('tar', ['-tf', '-'], { input: archive }).toString()).toBe('lanes.txt\n')
  })

  it('says that data is in one place only, and reads it into the store when it can be', async () => {
    wharf.apply({
      apiVersion: 'v1',
      kind: 'ResourceQuota',
      metadata: { name: 'full', namespace: 'boarding' },
      spec: { hard: { pods: '1' } },
    })
    await person.opens('/vessels/wharf-gate')
    await person.sees('Consistent together.')
    await person.page.keyboard.press('b')
    await person.clicks('[role=dialog] button[type=submit]')
    await person.arrivesAt(/\/runs\/[0-9a-f-]{36}$/)
    await person.reads('[data-warnings]', /is only at its source\. Its data is only in the snapshot/)
    wharf.kubectl('delete', 'resourcequota', 'full', '-n', 'boarding')
    await person.opens('/')
    await person.sees('is only at its source: data-manifest-0')
    await person.opens('/vessels/wharf-gate')
    await person.sees('Only at the source.')
    await person.clicks('[data-fetch]')
    await person.arrivesAt(/\/runs\/[0-9a-f-]{36}$/)
    await person.sees('whole in its point')
    await person.opens('/vessels/wharf-gate')
    await person.sees('Everything that was to be taken is in it.')
    expect(wharf.json('get', 'volumesnapshots', '-n', 'boarding').items).toEqual([])
  })

  it('finds that a copy is torn which nothing held', async () => {
    await person.opens('/vessels/new?take=wharf/boarding')
    await person.writes('input[name=vessel-name]', 'Wharf gate, rough')
    await person.presses('Save as version 1')
    await person.arrivesAt(/\/vessels\/wharf-gate-rough$/)
    // As it is between the two steps of a write: the journal is ahead of its index.
    wharf.kubectl('scale', 'statefulset', 'manifest', '-n', 'boarding', '--replicas=0')
    await wharf.until(() => wharf.json('get', 'pods', '-n', 'boarding').items.length === 0)
    appendFileSync(join(folderOf(wharf, 'boarding'), 'manifest.journal'), 'torn\n')
    await person.sees('it has no recovery point yet')
    await person.page.keyboard.press('b')
    await person.clicks('[role=dialog] button[type=submit]')
    await person.arrivesAt(/\/runs\/[0-9a-f-]{36}$/)
    await person.sees('A new point of Wharf gate, rough')
    await person.opens('/vessels/wharf-gate-rough/restore?pick=wharf/boarding')
    await person.chooses('[aria-label="Into which cluster"]', 'islet')
    await person.writes('[name="namespace-boarding"]', 'torn')
    await person.clicks('[data-mapping]')
    await person.chooses('[aria-label="In place of storage class berth"]', 'pontoon')
    // The service refuses to start upon a torn manifest, so it is started elsewhere and its check is asked.
    await person.pastes(
      '#map-changes',
      JSON.stringify([
        {
          kind: 'StatefulSet',
          name: '*',
          patch: [
            { op: 'replace', path: '/spec/replicas', value: 1 },
            { op: 'replace', path: '/spec/template/spec/containers/0/args', value: ['/elsewhere'] },
          ],
        },
      ]),
    )
    await person.writes('#map-after', 'manifestctl check /data')
    await person.writes('[aria-label="In which pod"]', 'app=manifest')
    await person.page.keyboard.press('Escape')
    await person.sees('Make namespace torn on islet')
    await person.clicks('[data-go]')
    await person.arrivesAt(/\/runs\/[0-9a-f-]{36}$/)
    await person.sees('the index says')
    const check = (await person.texts('[data-receipt]')).find((line) => line.startsWith('check'))
    expect(check).toContain('failed')
  })
}
