import { createHash } from 'node:crypto'
import { canonical, cleaned, type ClusterObject } from '../../../core/cluster/clean'
import { differences, holds } from '../../../core/cluster/immutable'
import { atRest, PHASES, PHASE_TITLES, type Phase } from '../../../core/cluster/phases'
import type { PlannedObject, VolumeOperation } from '../../../core/cluster/operations'
import type { VolumeManifest } from '../../../core/content/manifest'
import { errorRecord, VesselError } from '../../../core/errors'
import { pathOf } from '../../../core/things/thing'
import type { Vessel } from '../../catalog/vessels'
import { holderFor, markOf } from '../../holds/release'
import { inParallel } from '../../parallel'
import type { OpenPoint } from '../../points/open'
import { ClusterClient } from '../../sources/kubernetes/client'
import { Temporary } from '../../sources/kubernetes/temporary'
import type { RunContext } from '../context'
import { outcomeOf, type Receipts } from '../receipts'
import { Applier } from './apply'
import { keepStanding } from './keep'
import type { PlannedNamespace } from './plan'
import { willLeave } from './leftovers'
import { Resting } from './resting'
import { VolumeFiller, type Filled } from './volumes'
import { usesClaim } from './workloads'

const AT_ONCE = 8
const DEFINED_WITHIN_MS = 30_000
const LEFT_SHOWN = 20

const digest = (object: ClusterObject) => createHash('sha256').update(canonical(object)).digest('hex').slice(0, 32)

/** Brings a namespace back, or what is picked of it: in the order of what needs what, and proven at the end. */
export class NamespaceRestore {
  private readonly client: ClusterClient
  private readonly apply: Applier
  private readonly label: string
  private readonly failed = new Set<string>()

  constructor(
    private readonly run: RunContext,
    private readonly vessel: Vessel,
    private readonly point: OpenPoint,
    private readonly planned: PlannedNamespace,
    private readonly receipts: Receipts,
  ) {
    this.client = new ClusterClient(planned.access)
    this.apply = new Applier(this.client, run.signal)
    this.label = `${planned.access.name} / ${planned.plan.into}`
  }

  async go(): Promise<void> {
    try {
      await this.apply.learn()
      await this.restore()
    } catch (error) {
      throw this.client.translate(error, 'What the receipt lists is done; the rest is as it was.')
    } finally {
      this.client.close()
    }
  }

  private step<T>(kind: string, title: string, work: (count: (counter: string, by: number) => void) => Promise<T>): Promise<T> {
    return this.run.plan({ kind, member: this.label, title }).then((ordinal) => this.run.step(ordinal, work))
  }

  private async restore(): Promise<void> {
    const { plan, objects, access } = this.planned
    const temporary = new Temporary(this.client, await this.client.resources(), this.run.id, this.run.signal)
    const wakes = new Applier(this.client, new AbortController().signal)
    const resting = new Resting(this.run, this.apply, wakes, access.name)
    const closing = await willLeave(this.run, access.name)
    try {
      if (plan.overwrites > 0)
        await this.step('keep', 'What is overwritten, kept', () =>
          keepStanding(this.run, this.vessel, this.point, this.client, this.planned),
        )
      if (plan.makes) await this.step('namespace', `Namespace ${plan.into}`, () => this.makeNamespace())
      await this.restUsers(resting)
      for (const phase of PHASES) if (phase !== 'start') await this.applyPhase(phase)
      const volumes = await this.fillAll(temporary, resting)
      await this.start(resting, volumes)
      await this.proveObjects(objects)
      await this.after()
    } finally {
      await resting.wake()
      await temporary.close(closing, (leftover) => this.run.say('warning', `It could not be removed after filling: ${leftover}`))
    }
  }

  private async makeNamespace(): Promise<void> {
    const { plan, wish } = this.planned
    const labels = Object.fromEntries(
      Object.entries({ ...plan.labels, ...wish.cluster.labels }).filter(
        (label): label is [string, string] => label[1] !== null && label[0] !== 'kubernetes.io/metadata.name',
      ),
    )
    const body = { apiVersion: 'v1', kind: 'Namespace', metadata: { name: plan.into, labels } }
    await this.client.ask('/api/v1/namespaces', { method: 'POST', body, signal: this.run.signal })
    this.receipts.line(plan.namespace, pathOf(plan.source, plan.into), 'create', 'made', await this.proof(body))
  }

  /** What uses a volume that will be changed must not run meanwhile. */
  private async restUsers(resting: Resting): Promise<void> {
    const changed = this.planned.plan.volumes.filter(({ verb }) => verb === 'replace' || verb === 'merge')
    const users = [...this.planned.target.objects.values()].filter(
      (object) =>
        object.metadata.namespace === this.planned.plan.into &&
        atRest(object) !== null &&
        object.kind !== 'ReplicaSet' &&
        changed.some(({ claim }) => usesClaim(object, claim)),
    )
    if (users.length > 0)
      await this.step('rest', 'Workloads that use the volumes, to rest', () =>
        resting.rest(
          users,
          this.planned.plan.into,
          changed.map(({ claim }) => claim),
        ),
      )
  }

  private async applyPhase(phase: Phase): Promise<void> {
    const objects = this.planned.objects.filter(({ operation }) => operation.phase === phase)
    for (const { operation } of objects.filter(({ operation: { verb } }) => verb === 'leave')) this.receipts.leave(operation)
    const active = objects.filter(({ operation }) => operation.verb !== 'leave')
    if (active.length === 0) return
    await this.step(phase, PHASE_TITLES[phase], async (count) => {
      await inParallel(active, AT_ONCE, async (object) => {
        await this.applyOne(object)
        count('objects', 1)
      })
      if (phase === 'definitions') await this.untilDefined(active)
    })
  }

  private async applyOne(object: PlannedObject): Promise<void> {
    try {
      await this.apply.apply(object)
    } catch (error) {
      this.run.signal.throwIfAborted()
      this.fail(object, error)
    }
  }

  private fail({ operation }: Pick<PlannedObject, 'operation'>, error: unknown): void {
    const known = this.client.translate(error, 'It is not there; the rest of the plan goes on.')
    if (!(known instanceof VesselError) || known.code === 'unreachable' || known.code === 'token_refused') throw known
    this.failed.add(operation.path)
    this.receipts.broken(operation.path, operation.target, operation.verb, known)
  }

  /** Objects of a kind can only be made when the cluster serves it. */
  private async untilDefined(definitions: PlannedObject[]): Promise<void> {
    const wanted = definitions
      .filter(({ object }) => object.kind === 'CustomResourceDefinition')
      .map(({ object }) => object.spec as { group: string; names: { kind: string } })
    await this.apply.until(
      DEFINED_WITHIN_MS,
      () => 'The cluster does not serve the new kinds',
      async () => {
        const served = await this.client.resources()
        return wanted.every(({ group, names }) => served.some((resource) => resource.group === group && resource.kind === names.kind))
      },
    )
    await this.apply.learn()
  }

  /** @returns claims whose content is not what it should be */
  private async fillAll(temporary: Temporary, resting: Resting): Promise<Set<string>> {
    const { plan, manifest } = this.planned
    const bad = new Set<string>()
    const filler = new VolumeFiller(this.client, temporary, this.point, this.run.signal)
    for (const operation of plan.volumes.filter(({ verb }) => verb === 'leave')) this.receipts.leave(operation)
    const active = plan.volumes.filter(({ verb }) => verb !== 'leave')
    await inParallel(active, this.vessel.definition.readers, async (operation) => {
      const before = manifest.volumes.find(({ path }) => path === operation.path)!
      try {
        const filled = await this.step('volume', `${operation.claim}, filled and read back`, async (count) => {
          await resting.filling(operation.claim)
          return filler.fill(operation, before, count)
        })
        this.receiveVolume(operation, before, filled)
        if (filled.equal) await resting.filled(operation.claim)
        else bad.add(operation.claim)
      } catch (error) {
        this.run.signal.throwIfAborted()
        bad.add(operation.claim)
        this.receipts.broken(operation.path, operation.target, operation.verb, this.client.translate(error))
      }
    })
    return bad
  }

  private receiveVolume({ path, target, verb, renamed, only }: VolumeOperation, before: VolumeManifest, filled: Filled): void {
    this.receipts.line(path, target, verb, outcomeOf({ verb, renamed }), {
      rows: filled.files,
      fingerprint_then: only ? filled.wanted : before.fingerprint,
      fingerprint_now: filled.found,
      equal: filled.equal,
      left_parts: filled.differing.slice(0, LEFT_SHOWN),
    })
  }

  /** Sets everything going that was made at rest, and waits until it is ready. */
  private async start(resting: Resting, bad: Set<string>): Promise<void> {
    const starting = this.planned.objects.filter(
      ({ operation, object }) =>
        operation.verb !== 'leave' && !this.failed.has(operation.path) && (atRest(object) || operation.phase === 'start'),
    )
    for (const { operation } of this.planned.objects.filter(
      ({ operation: planned }) => planned.phase === 'start' && planned.verb === 'leave',
    ))
      this.receipts.leave(operation)
    if (starting.length === 0 && resting.isEmpty) return
    await this.step('start', 'Started, and ready', async (count) => {
      await inParallel(starting, AT_ONCE, async (planned) => {
        const claim = [...bad].find((name) => usesClaim(planned.object, name))
        if (claim)
          await this.run.say(
            'warning',
            `${planned.operation.kind} ${planned.operation.name} stays at rest: its volume ${claim} is not what it should be.`,
          )
        else await this.startOne(planned)
        count('started', 1)
        // What only runs once was not made before.
        if (planned.operation.phase === 'start') count('objects', 1)
      })
      await resting.wake(this.planned.wish.cluster.readyWithinMs)
    })
  }

  private async startOne(planned: PlannedObject): Promise<void> {
    const { operation, object } = planned
    try {
      if (operation.phase === 'start') await this.apply.apply(planned)
      else await this.apply.patch(await this.apply.pathOf(object, object.metadata.name), { spec: atRest(object)!.start })
      await this.apply.untilReady(object, this.planned.wish.cluster.readyWithinMs).catch(async (error: unknown) => {
        if (!(error instanceof VesselError && error.code === 'not_in_time')) throw error
        await this.run.say('warning', error.message)
      })
    } catch (error) {
      this.run.signal.throwIfAborted()
      this.fail(planned, error)
    }
  }

  /** Reads every object back and compares it with what was to come, field by field. */
  private async proveObjects(objects: PlannedObject[]): Promise<void> {
    const made = objects.filter(({ operation }) => operation.verb !== 'leave' && !this.failed.has(operation.path))
    if (made.length === 0) return
    await this.step('proof', 'Compared with the backup', async (count) => {
      await inParallel(made, AT_ONCE, async ({ operation, object }) => {
        this.receipts.line(operation.path, operation.target, operation.verb, outcomeOf(operation), await this.proof(object))
        count('objects checked', 1)
      })
    })
  }

  /** An object read back, and compared field by field with what was to come. */
  private async proof(object: ClusterObject) {
    const found = await this.apply.get(object)
    const now = found ? cleaned(found) : null
    const equal = now !== null && holds(object, now)
    return {
      structure_then: digest(object),
      // What the cluster has added by itself does not make it another one.
      structure_now: now === null ? null : equal ? digest(object) : digest(now),
      equal,
      left_parts: equal ? [] : leftFields(object, now),
    }
  }

  /** Commands that the person wants to be run when everything is back: their output is part of the receipt. */
  private async after(): Promise<void> {
    const { wish, plan, access } = this.planned
    for (const { name, act, limitMs } of wish.cluster.after) {
      const member = pathOf(access.name, plan.into)
      const failure = await this.step('after', name, async () => {
        const holder = await holderFor(this.run.engine, member, act)
        const placed = await holder.place(plan.into, act, this.run.signal)
        const job = { place: plan.into, placed, values: {}, limitMs, holdMs: limitMs, mark: markOf(this.run.id), signal: this.run.signal }
        const result = await holder.perform(job)
        await result.session?.close()
        this.receipts.line(name, member, 'after', result.failure === null ? 'made' : 'failed', {
          reason: [result.failure, result.output].filter(Boolean).join('\n') || 'It wrote nothing.',
          equal: result.failure === null,
        })
        return result.failure
      }).catch((error: unknown) => {
        this.run.signal.throwIfAborted()
        this.receipts.broken(name, member, 'after', error)
        return errorRecord(error).what
      })
      if (failure) await this.run.say('warning', `“${name}” failed after the restore: ${failure}`)
    }
  }
}

function leftFields(earlier: ClusterObject, now: ClusterObject | null): { what: string; why: string }[] {
  if (now === null) return [{ what: 'all of it', why: 'It is not there.' }]
  return differences(earlier, now)
    .filter((difference) => difference.before !== null)
    .slice(0, LEFT_SHOWN)
    .map((difference) => ({ what: difference.field, why: `It was ${difference.before} and is ${difference.now ?? 'not there'}.` }))
}
