import type { ClusterObject } from '../../../core/cluster/clean'
import { atRest } from '../../../core/cluster/phases'
import { errorRecord } from '../../../core/errors'
import { giveBack, takeWorkload, type LeasedWorkload } from '../../holds/lease'
import type { RestingWorkload, RunContext } from '../context'
import type { Applier } from './apply'
import { usesClaim } from './workloads'

const REST_WITHIN_MS = 120_000

interface PutToRest {
  object: ClusterObject
  leased: LeasedWorkload
  record: RestingWorkload
  undo: number
}

/**
 * Workloads that stand, put to rest for as long as their volumes are written. Each is written down before, so that
 * whoever tidies up starts it again; and it is started again even when the run was cancelled.
 */
export class Resting {
  private resting: PutToRest[] = []

  /** @param wakes what starts them again, which nothing that ends the run may end */
  constructor(
    private readonly run: RunContext,
    private readonly apply: Applier,
    private readonly wakes: Applier,
    private readonly source: string,
  ) {}

  get isEmpty(): boolean {
    return this.resting.length === 0
  }

  /** @throws VesselError `workload_held` before any of them is touched, when another run has stopped one of them */
  async rest(workloads: ClusterObject[], namespace: string, claims: string[]): Promise<void> {
    const leased = workloads.map(({ kind = '', metadata }) => ({ source: this.source, namespace, kind, name: metadata.name ?? '' }))
    for (const workload of leased) await takeWorkload(this.run.engine.db, workload, this.run.id)
    for (const [i, object] of workloads.entries()) {
      const path = await this.apply.pathOf(object, object.metadata.name)
      const record = { source: this.source, path, start: atRest(object)!.start, label: labelOf(object), half: [] }
      this.resting.push({ object, leased: leased[i]!, record, undo: await this.run.willUndo({ kind: 'rest', what: record }) })
      const spec = atRest(object)!.resting.spec as Record<string, unknown>
      await this.apply.patch(path, { spec: 'replicas' in spec ? { replicas: 0 } : { suspend: true } })
    }
    // A workload says that it has no replicas while their pods are still ending.
    await this.apply.until(
      REST_WITHIN_MS,
      () => 'Pods still use the volumes',
      async () => !(await this.apply.isUsed(namespace, claims)),
    )
  }

  /** From here on a volume holds half of what should come back, until it is said that it is whole. */
  async filling(claim: string): Promise<void> {
    await this.setHalf(claim, (half) => [...half, claim])
  }

  async filled(claim: string): Promise<void> {
    await this.setHalf(claim, (half) => half.filter((name) => name !== claim))
  }

  private async setHalf(claim: string, change: (half: string[]) => string[]): Promise<void> {
    for (const { record, undo } of this.resting.filter(({ object }) => usesClaim(object, claim))) {
      record.half = change(record.half)
      await this.run.undoInstead(undo, record)
    }
  }

  /** Sets them going again, except what uses a volume that is not as it should be, and waits until they are ready. */
  async wake(withinMs = 0): Promise<void> {
    for (const { object, leased, record, undo } of this.resting.splice(0)) {
      const label = labelOf(object)
      if (record.half.length > 0) {
        await this.run.say('warning', `${label} stays at rest: its volume ${record.half.join(', ')} is not what it should be.`)
        await this.run.undone(undo)
        continue
      }
      try {
        await this.run.confirm()
        await this.wakes.patch(record.path, { spec: record.start })
        await this.run.undone(undo)
        await giveBack(this.run.engine.db, leased, this.run.id)
        if (withinMs > 0) await this.apply.untilReady(object, withinMs)
      } catch (error) {
        await this.run.say('error', `${label} could not be started again, or is not ready: ${errorRecord(error).what}`)
      }
    }
  }
}

const labelOf = (object: ClusterObject) => `${object.kind} ${object.metadata.name}`
