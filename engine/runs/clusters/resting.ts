import type { ClusterObject } from '../../../core/cluster/clean'
import { atRest } from '../../../core/cluster/phases'
import { errorRecord } from '../../../core/errors'
import type { RunContext } from '../context'
import type { Applier } from './apply'
import { usesClaim } from './workloads'

const REST_WITHIN_MS = 120_000

/** What has to be started again when a worker dies in between: written down before it is put to rest. */
export interface RestingWorkload {
  source: string
  path: string
  label: string
  start: Record<string, unknown>
}

/** Workloads that stand, put to rest for as long as their volumes are written. */
export class Resting {
  private resting: { object: ClusterObject; path: string; start: Record<string, unknown> }[] = []

  constructor(
    private readonly run: RunContext,
    private readonly apply: Applier,
    private readonly source: string,
  ) {}

  get isEmpty(): boolean {
    return this.resting.length === 0
  }

  async rest(workloads: ClusterObject[], namespace: string, claims: string[]): Promise<void> {
    for (const object of workloads)
      this.resting.push({ object, path: await this.apply.pathOf(object, object.metadata.name), start: atRest(object)!.start })
    const resting: RestingWorkload[] = this.resting.map(({ object, path, start }) => ({
      source: this.source,
      path,
      start,
      label: `${object.kind} ${object.metadata.name}`,
    }))
    await this.run.remember({ resting })
    for (const { object, path } of this.resting) {
      const still = atRest(object)!.still.spec as Record<string, unknown>
      await this.apply.patch(path, { spec: 'replicas' in still ? { replicas: 0 } : { suspend: true } })
    }
    // A workload says that it has no replicas while their pods are still ending.
    await this.apply.until(
      REST_WITHIN_MS,
      () => 'Pods still use the volumes',
      async () => !(await this.apply.isUsed(namespace, claims)),
    )
  }

  /** Sets them going again, except what uses a volume that is not as it should be, and waits until they are ready. */
  async wake(except = new Set<string>(), withinMs = 0): Promise<void> {
    for (const { object, path, start } of this.resting.splice(0)) {
      const label = `${object.kind} ${object.metadata.name}`
      if ([...except].some((claim) => usesClaim(object, claim))) {
        await this.run.say('warning', `${label} stays at rest: its volume is not what it should be.`)
        continue
      }
      try {
        await this.apply.patch(path, { spec: start })
        if (withinMs > 0) await this.apply.untilReady(object, withinMs)
      } catch (error) {
        await this.run.say('error', `${label} could not be started again: ${errorRecord(error).what}`)
      }
    }
  }
}
