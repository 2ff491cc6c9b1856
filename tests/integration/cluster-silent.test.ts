import { spawn } from 'node:child_process'
import { once } from 'node:events'
import { mkdirSync, readFileSync, rmdirSync } from 'node:fs'
import { join } from 'node:path'
import { createInterface } from 'node:readline'
import { PassThrough } from 'node:stream'
import { afterAll, afterEach, beforeAll, describe, expect, it, vi } from 'vitest'
import { readKubeconfig } from '../../engine/sources/kubernetes/access'
import { ClusterClient } from '../../engine/sources/kubernetes/client'
import { execute } from '../../engine/sources/kubernetes/exec'
import { whileUsed } from '../../engine/sources/kubernetes/volumes'
import { TestCluster } from '../support/cluster'
import { network, type Network } from '../support/network'
import { ownFolder } from '../support/folder'

// Commands in pods of which nothing is heard, because they are long at it, or because the network swallows everything.

let cluster: TestCluster
let between: Network
const target = { namespace: 'desk', pod: 'idle', container: 'idle' }

beforeAll(async () => {
  cluster = await TestCluster.start('silent')
  cluster.apply(
    { apiVersion: 'v1', kind: 'Namespace', metadata: { name: 'desk' } },
    {
      apiVersion: 'v1',
      kind: 'Pod',
      metadata: { name: 'idle', namespace: 'desk' },
      spec: { containers: [{ name: 'idle', image: 'debian', command: ['sleep', '100000'] }] },
    },
  )
  await cluster.until(() => cluster.json('get', 'pod', 'idle', '-n', 'desk').status.phase === 'Running')
})
afterEach(() => vi.useRealTimers())
afterAll(async () => {
  between?.close()
  await cluster?.process.stop()
})

async function client(): Promise<ClusterClient> {
  const access = readKubeconfig(readFileSync(cluster.process.kubeconfig, 'utf8'))
  const server = new URL(access.settings.server)
  between = await network(Number(server.port))
  server.port = String(between.port)
  return new ClusterClient({ name: 'pier', ...access, settings: { ...access.settings, server: server.origin } })
}

/** Lets time pass as the product counts it, and the answers of the other end come meanwhile. */
async function minutes(count: number): Promise<void> {
  for (let i = 0; i < count * 6; i++) {
    vi.advanceTimersByTime(10_000)
    await new Promise((resolve) => setTimeout(resolve, 20))
  }
}

describe('a command in a pod', () => {
  it('is waited for as long as it takes, and given up within two minutes when the connection is dead', async () => {
    const ours = await client()
    vi.useFakeTimers({ toFake: ['setInterval', 'clearInterval', 'Date'] })
    const out = new PassThrough()
    const begun = once(out, 'data')
    let ended: unknown
    const command = execute(ours, target, ['sh', '-c', 'echo begun; sleep 1000'], out, new AbortController().signal).catch(
      (error: unknown) => (ended = error),
    )
    await Promise.race([begun, command])
    expect(ended).toBeUndefined()
    await minutes(10)
    expect(ended).toBeUndefined()
    between.silence()
    await minutes(2)
    await command
    expect(ended).toMatchObject({ code: 'connection_lost' })
    ours.close()
  })

  it('says what is wrong when it can’t be begun: the pod is gone, or the cluster', async () => {
    const ours = await client()
    const run = (pod: string) =>
      execute(ours, { ...target, pod }, ['true'], new PassThrough().resume(), new AbortController().signal).catch((error: unknown) => error)
    expect(await run('gone')).toMatchObject({ code: 'source_error', message: expect.stringContaining('desk/gone') })
    between.close()
    expect(await run('idle')).toMatchObject({ code: 'unreachable' })
    ours.close()
  })
})

describe('the shell of a pod that reads', () => {
  it('stays while commands run in it, and ends when it was forgotten', async () => {
    const proc = ownFolder('proc')
    for (const pid of [1, 7]) mkdirSync(join(proc, String(pid)))
    const shell = spawn('sh', ['-xc', whileUsed({ staySeconds: 0, lookSeconds: 0.01, looks: 3, proc })])
    const over = once(shell, 'exit')
    // It tells each look.
    let looks = 0
    for await (const line of createInterface(shell.stderr)) {
      if (/\[ 2 -gt 1 \]/.test(line) && ++looks === 10) break
    }
    expect([looks, shell.exitCode]).toEqual([10, null])
    rmdirSync(join(proc, '7'))
    expect(await over).toEqual([0, null])
  })
})
