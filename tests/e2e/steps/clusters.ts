import { readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { afterAll, afterEach, beforeAll, expect, inject, it } from 'vitest'
import { Person } from '../../support/browser'
import { anyRight, manifestService, namespace, snapshots, storage, TestCluster } from '../../support/cluster'

// The way of a platform engineer: a cluster is connected, a namespace of it protected and looked into.

export function clusters(): void {
  let person: Person
  let cluster: TestCluster
  const MIRA = 'token of mira'
  const SET = 'pier/boarding/apps/StatefulSet/manifest'
  const VOLUME = 'pier/boarding/volume/data-manifest-0'

  beforeAll(async () => {
    ;[person, cluster] = await Promise.all([Person.at(inject('url')), TestCluster.start('pier', { users: { [MIRA]: 'mira' } })])
    cluster.apply(storage('berth'), snapshots('berth'), namespace('boarding', { team: 'gates' }), manifestService('boarding', 'berth'), {
      apiVersion: 'v1',
      kind: 'Secret',
      metadata: { name: 'scanner-keys', namespace: 'boarding' },
      data: { KEY: 'c2VjcmV0' },
    })
    cluster.kubectl('wait', '--for=condition=Ready', 'pod/manifest-0', '-n', 'boarding', '--timeout=30s')
    const { volumeName } = cluster.json('get', 'pvc', 'data-manifest-0', '-n', 'boarding').spec
    writeFileSync(join(cluster.folder, 'volumes', volumeName, 'lanes.txt'), 'four lanes, two for vehicles\n')
  })
  afterEach(() => expect(person.complaints).toEqual([]))
  afterAll(async () => {
    await person?.leaves()
    await cluster?.stop()
  })

  it('connects a cluster by its kubeconfig: what is wrong is told, each right is shown', async () => {
    const config = readFileSync(cluster.process.kubeconfig, 'utf8')
    await person.opens('/sources')
    await person.presses('Connect a source')
    await person.presses('container cluster')
    await person.writes('input[name=name]', 'pier')
    await person.pastes('textarea[name=kubeconfig]', config.replace(/token: .*/, 'token: not this'))
    await person.clicks('[role=dialog] button::-p-text(Test)')
    await person.sees('does not accept the token')
    await person.pastes('textarea[name=kubeconfig]', config)
    await person.clicks('[role=dialog] button::-p-text(Test)')
    await person.sees('berth can take snapshots')
    await person.sees('Applications can be quiesced by commands in their containers.')
    await person.clicks('[data-save]')
    await person.sees('things of a cluster')
  })

  it('shows what is in a namespace, and what belongs together', async () => {
    await person.clicks('a::-p-text(boarding)')
    await person.clicks(`a[href="/sources/${SET}"]`)
    await person.sees('uses StorageClass berth')
    await person.sees('No vessel.')
    // Discovery watches: what is new stands there without asking.
    cluster.kubectl('create', 'configmap', 'made-just-now', '-n', 'boarding')
    await person.sees('made-just-now')
  })

  it('protects it by its labels, leaves its secrets, and says what each rule takes', async () => {
    await person.opens('/vessels/new?take=pier/boarding')
    await person.writes('input[name=vessel-name]', 'Boarding gate')
    await person.sees(/takes 4 objects and 1 volume/)
    await person.writes('[aria-label="Pattern of rule 1"]', 'pier/*')
    await person.writes('[aria-label="Labels of rule 1"]', 'team in gates')
    await person.sees('is not a requirement')
    await person.writes('[aria-label="Labels of rule 1"]', 'team in (gates)')
    await person.presses('Add a rule')
    await person.chooses('[data-rule]:nth-of-type(2) [aria-label="Take or leave"]', 'Leave')
    await person.chooses('[data-rule]:nth-of-type(2) [aria-label="Kind"]', 'object')
    await person.writes('[aria-label="Pattern of rule 2"]', 'pier/*/core/Secret/*')
    await person.sees(/4 taken, 1 left/)
    await person.presses('what labels keep out')
    await person.reads('[data-kept-out]', /^Nothing: all that has this name has these labels/)
    await person.writes('[aria-label="Labels of rule 1"]', 'team=desks')
    await person.reads('[data-kept-out]', /pier\/boarding\/apps\/StatefulSet\/manifest: team is gates, not desks/)
    await person.writes('[aria-label="Labels of rule 1"]', 'team=gates')
    await person.sees(/4 taken, 1 left/)
    await person.presses('Save as version 1')
    await person.arrivesAt(/\/vessels\/boarding-gate$/)
    await person.sees('it has no recovery point yet')
  })

  it('backs it up, and looks at its manifests and files as they were', async () => {
    await person.page.keyboard.press('b')
    await person.clicks('[role=dialog] button[type=submit]')
    await person.arrivesAt(/\/runs\/[0-9a-f-]{36}$/)
    await person.sees('A new point of Boarding gate')
    expect((await person.texts('[data-step]')).some((step) => step.startsWith('data-manifest-0'))).toBe(true)
    await person.opens('/vessels/boarding-gate')
    await person.sees('Crash-consistent.')
    // Only this moment can be entered, and nothing says otherwise.
    expect(await person.page.$$eval('[data-band]', (bands) => bands.length)).toBe(0)
    expect(await person.text('[aria-label="At this moment"] h2')).not.toContain('log')
    await person.clicks('a::-p-text(Changes)')
    await person.sees('Namespaces have no log that could be searched.')
    await person.clicks('a::-p-text(Definition)')
    await person.reads('[data-log]', /Follow the log\s*namespaces have none/)
    await person.opens(`/vessels/boarding-gate/contents?show=${SET}`)
    await person.sees('images.quellmark.example/manifest-service:2.1')
    expect(await person.text('[data-manifest]')).not.toContain('resourceVersion')
    await person.clicks('button::-p-text(data-manifest-0)')
    await person.clicks('button::-p-text(lanes.txt)')
    await person.sees('four lanes, two for vehicles')
    const tar = await person.page.$eval('[data-export] a:last-child', (link) => (link as HTMLAnchorElement).href)
    const bytes = Buffer.from(await (await fetch(tar)).arrayBuffer())
    expect(bytes.includes('four lanes, two for vehicles')).toBe(true)
    expect(new URL(tar).searchParams.get('path')).toBe(VOLUME)
  })

  it('is reached with a new token when the old one ran out, and is what it was', async () => {
    cluster.apply(...anyRight('mira'))
    await person.opens('/sources/pier')
    await person.presses('Change…')
    await person.sees('How pier is reached')
    await person.writes('textarea[name=token]', 'mistyped')
    await person.clicks('[role=dialog] button::-p-text(Test)')
    await person.sees('It cannot be used like this.')
    await person.writes('textarea[name=token]', MIRA)
    await person.clicks('[role=dialog] button::-p-text(Test)')
    await person.sees('berth can take snapshots')
    await person.clicks('[data-save]')
    await person.page.waitForFunction(() => !document.querySelector('[role=dialog]'))

    cluster.process.expire(MIRA)
    await person.presses('Discover again')
    await person.sees('does not accept the token or certificate: it may have run out')
    await person.opens('/')
    await person.clicks('a::-p-text(Change how it is reached)')
    await person.arrivesAt(/\/sources\/pier\?reach/)
    await person.writes('textarea[name=token]', cluster.process.token)
    await person.clicks('[role=dialog] button::-p-text(Test)')
    await person.sees('berth can take snapshots')
    await person.clicks('[data-save]')
    await person.page.waitForFunction(() => !/does not accept the token/.test(document.body.innerText))
    await person.clicks('a::-p-text(boarding)')
    await person.clicks(`a[href="/sources/${SET}"]`)
    await person.sees('by pier/*')
  })
}
