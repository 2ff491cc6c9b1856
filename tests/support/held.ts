import { execFileSync } from 'node:child_process'
import { once } from 'node:events'
import { chmodSync, mkdirSync, mkdtempSync, readFileSync, symlinkSync, writeFileSync } from 'node:fs'
import { createServer, type Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { join } from 'node:path'
import { buffer } from 'node:stream/consumers'
import { expect, inject } from 'vitest'
import type { Consistency, Reached } from '../../core/quiesce/consistency'
import type { Act, HoldStep, QuiesceSequence } from '../../core/quiesce/sequence'
import { addSource } from '../../engine/catalog/sources'
import { addVessel, type Vessel } from '../../engine/catalog/vessels'
import { Ledger } from '../../engine/holds/ledger'
import { openFile } from '../../engine/look/cluster'
import { openPoint } from '../../engine/points/open'
import { readKubeconfig } from '../../engine/sources/kubernetes/access'
import { ClusterClient } from '../../engine/sources/kubernetes/client'
import { execute, Tail } from '../../engine/sources/kubernetes/exec'
import { manifestService, namespace, snapshots, storage, TestCluster } from './cluster'
import { Workbench } from './engine'

export const GATE = 'pier/boarding'
export const VOLUME = `${GATE}/volume/data-manifest-0`
export const exec = (...command: string[]): Act => ({
  kind: 'exec',
  selector: 'app=manifest',
  container: '',
  pods: 'one',
  active: '',
  command,
})
export const freeze = (more: Partial<HoldStep> = {}): HoldStep => ({
  id: more.name ?? 'freeze',
  name: 'freeze',
  member: GATE,
  turn: 0,
  act: exec('manifestctl', 'hold'),
  limitMs: 5000,
  onFailure: 'stop',
  release: exec('manifestctl', 'release'),
  ...more,
})

/** A namespace with a service that can be held, a database, and what hooks may call and run. */
export class HeldBench {
  calls: string[] = []
  private count = 0

  private constructor(
    readonly cluster: TestCluster,
    readonly bench: Workbench,
    private readonly server: Server,
  ) {}

  static async start(): Promise<HeldBench> {
    const calls: string[] = []
    const server = createServer((request, response) => {
      calls.push(`${request.method} ${request.url}`)
      if (request.url === '/elsewhere') response.writeHead(302, { location: 'http://other.example/' })
      response.end('token=abc 1\n')
    })
    server.listen(0, '127.0.0.1')
    await once(server, 'listening')
    const [cluster, bench] = await Promise.all([
      TestCluster.start('pier'),
      Workbench.open('create schema sales; create table sales.leg as select generate_series(1, 100) as id', {
        hosts: [hostOf(server)],
        folder: hookPrograms(),
      }),
    ])
    cluster.apply(storage('berth'), storage('rope'), snapshots('berth'), namespace('boarding'), manifestService('boarding', 'berth'))
    cluster.kubectl('wait', '--for=condition=Ready', 'pod', '--all', '-n', 'boarding', '--timeout=30s')
    await addSource(bench.engine, { name: 'pier', ...readKubeconfig(readFileSync(cluster.process.kubeconfig, 'utf8')) })
    const held = new HeldBench(cluster, bench, server)
    held.calls = calls
    return held
  }

  get host(): string {
    return hostOf(this.server)
  }

  lock(more: Partial<HoldStep> = {}): HoldStep {
    return {
      ...freeze(),
      id: 'lock',
      name: 'lock',
      member: `db/${this.bench.database}`,
      act: { kind: 'sql', statement: 'begin; lock table sales.leg in share mode; select count(*) as legs from sales.leg' },
      release: { kind: 'sql', statement: 'commit' },
      ...more,
    }
  }

  vessel(steps: HoldStep[], budgetMs = 20_000, patterns = [GATE], reads?: QuiesceSequence['reads']): Promise<Vessel> {
    return addVessel(this.bench.engine, `Gate ${++this.count}`, {
      rules: patterns.map((pattern) => ({
        id: pattern,
        act: 'take',
        kind: pattern.startsWith('pier') ? 'namespace' : 'database',
        pattern,
      })),
      store: 'dry-dock',
      promises: { couldLose: null, backWithin: null },
      readers: 2,
      quiesce: { steps, budgetMs, ...(reads ? { reads } : {}) },
    })
  }

  async pointOf(run: { outcome: unknown }) {
    const { point } = run.outcome as { point: string }
    const row = await this.bench.engine.db
      .selectFrom('point')
      .select(['consistency', 'reached'])
      .where('id', '=', point)
      .executeTakeFirstOrThrow()
    return { id: point, consistency: row.consistency as Consistency, reached: row.reached as Reached }
  }

  ledger(runId: string) {
    return new Ledger(this.bench.engine).ofRun(runId)
  }

  /** What the service says of itself. */
  async isHeld(): Promise<boolean> {
    const client = new ClusterClient({ name: 'pier', ...readKubeconfig(readFileSync(this.cluster.process.kubeconfig, 'utf8')) })
    try {
      const out = new Tail()
      const target = { namespace: 'boarding', pod: 'manifest-0', container: 'service' }
      expect((await execute(client, target, ['manifestctl', 'status'], out, AbortSignal.timeout(10_000))).code).toBe(0)
      return out.text.includes('held=true')
    } finally {
      client.close()
    }
  }

  rehearse(quiesce: Partial<QuiesceSequence> & Pick<QuiesceSequence, 'steps'>, of: Vessel) {
    return this.bench.run('hold', of, { quiesce: { budgetMs: 20_000, ...quiesce } })
  }

  /** Whether journal and index of a point agree, by the service's own check. */
  async isSound(point: string): Promise<boolean> {
    const folder = join(inject('folder'), `check-${point}`)
    mkdirSync(folder)
    const opened = await openPoint(this.bench.engine, point)
    for (const file of ['manifest.journal', 'manifest.index']) {
      const { stream } = await openFile(opened, VOLUME, file)
      writeFileSync(join(folder, file), await buffer(stream))
    }
    try {
      execFileSync('node', ['dist/manifest-service.mjs', 'check', folder])
      return true
    } catch {
      return false
    }
  }

  /** Whatever a test did, nothing stays held; what could not be released at once is released soon. */
  async nothingIsHeld(): Promise<void> {
    await this.cluster.until(async () => (await new Ledger(this.bench.engine).open()).length === 0)
    expect(await this.isHeld()).toBe(false)
    this.calls.length = 0
  }

  async close(): Promise<void> {
    await this.bench.close()
    await this.cluster.stop()
    this.server.close()
  }
}

const hostOf = (server: Server) => `127.0.0.1:${(server.address() as AddressInfo).port}`

/** A folder of programs that steps may run. */
function hookPrograms(): string {
  const folder = mkdtempSync(join(inject('folder'), 'hook-programs-'))
  const program = (name: string, text: string) => {
    writeFileSync(join(folder, name), `#!/bin/sh\n${text}\n`)
    chmodSync(join(folder, name), 0o755)
  }
  program('tell', 'echo "argument=$1"; echo "secret=${VESSEL_CATALOG:-none}"')
  program('hang', 'sleep 60 & echo "child=$!"; wait')
  symlinkSync('/bin/sh', join(folder, 'shell'))
  return folder
}
