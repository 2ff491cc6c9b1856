import type { NamespaceManifest, ObjectEntry, VolumeManifest } from '../content/manifest'
import type { Collision } from '../restore/wish'
import { CLUSTER_WIDE, objectPath, pathOf, volumePath, withinAny } from '../things/thing'
import type { ClusterObject } from './clean'
import { fixedFields, holds } from './immutable'
import { classesOf, mapObject, renameKey, type Renames } from './mapping'
import type { ObjectOperation, VolumeOperation, Blocker, NamespacePlan, PlannedObject } from './operations'
import { atRest, PHASES, phaseOf } from './phases'
import { claimParts, claimTemplates, containersOf } from './pods'
import { preflight } from './preflight'
import { rightsNeeded } from './rights'
import { objectKey, type ClusterState } from './target'
import { groupOf } from './versions'
import type { Asked, ClusterWish } from './wish'

export interface PlanInput {
  /** The cluster of the point. */
  source: string
  manifest: NamespaceManifest
  /** In the order of the manifest's entries. */
  objects: ClusterObject[]
  target: ClusterState
  asked: Asked
  /** What is picked of a volume, by its path, where that is not all of it. */
  picked?: Record<string, { files: number; bytes: number }>
}

/** Kinds that come along when they are needed and missing, and are never taken along otherwise. */
const NEVER_ALONG = new Set(['StorageClass', 'VolumeSnapshotClass', 'IngressClass', 'PriorityClass'])

/** Plans how a namespace, or what is picked of it, comes back: every thing in order, with its decision. */
export function planNamespace(input: PlanInput): { plan: NamespacePlan; objects: PlannedObject[] } {
  return new Planner(input).plan()
}

class Planner {
  private readonly into: string
  private readonly wish: ClusterWish
  /** Whether its original stays beside it, alive. */
  private readonly isCopy: boolean
  private readonly renames: Renames = new Map()
  private readonly picked: { entry: ObjectEntry; object: ClusterObject }[]
  private readonly volumes: VolumeManifest[]
  /** Whether something is picked, by itself or by what holds it. */
  private readonly takes: (path: string) => boolean

  constructor(private readonly input: PlanInput) {
    const { manifest, asked } = input
    this.isCopy = isCopyBeside(input)
    this.wish = { ...asked.cluster, exposure: asked.cluster.exposure ?? (this.isCopy ? 'unplug' : 'keep') }
    this.takes = withinAny(asked.picks)
    this.into = this.wish.namespaces[manifest.name] ?? manifest.name
    this.picked = manifest.objects
      .map((entry) => ({ entry, object: input.objects[entry.line]! }))
      .filter(({ entry }) => this.isPicked(entry))
    this.volumes = manifest.volumes.filter((volume) => this.takes(volume.path) || this.wish.files[volume.path] !== undefined)
    this.decideNames()
  }

  private isPicked(entry: ObjectEntry): boolean {
    const { manifest, target, source } = this.input
    if (!entry.wide) {
      // A claim comes with its volume, which is asked for by a path of its own.
      const claimed = entry.kind === 'PersistentVolumeClaim' && this.takes(volumePath(source, manifest.name, entry.name))
      return this.takes(entry.path) || claimed
    }
    if (this.takes(entry.path)) return true
    if (NEVER_ALONG.has(entry.kind) && target.source !== source) return false
    // What is wide comes along only where something that is picked needs it, and it is missing.
    const isNeeded = manifest.objects.some((other) => !other.wide && this.takes(other.path) && other.uses.includes(entry.path))
    return isNeeded && !target.objects.has(objectKey(entry.group, entry.kind, null, entry.name))
  }

  private isLeftOut(kind: string): string | null {
    if (kind === 'Secret' && !this.wish.secrets) return 'Secrets are left out.'
    return (kind === 'Service' || kind === 'Ingress') && this.wish.exposure === 'leave' ? 'Services and ingresses are left out.' : null
  }

  private collisionOf(path: string): Collision {
    return this.input.asked.each[path] ?? this.input.asked.collide
  }

  private namespaceOf = (entry: ObjectEntry) => (entry.wide || this.input.manifest.name === CLUSTER_WIDE ? null : this.into)

  private existing(group: string, kind: string, namespace: string | null, name: string): ClusterObject | undefined {
    return this.input.target.objects.get(objectKey(group, kind, namespace, name))
  }

  /** New names, by prefix and suffix or out of the way of what stands; claims follow their workload. */
  private decideNames(): void {
    const { prefix, suffix } = this.wish
    const around = (name: string) => `${prefix}${name}${suffix}`
    const workloads = new Map<string, { to: string; templates: string[] }>()
    for (const { entry, object } of this.picked) {
      // What does not come back keeps its name, and whatever refers to it still does.
      if (this.namespaceOf(entry) === null || this.isLeftOut(entry.kind) !== null) continue
      const renames = this.existing(entry.group, entry.kind, this.into, around(entry.name)) && this.collisionOf(entry.path) === 'rename'
      const to = renames ? this.free(entry, around(entry.name)) : around(entry.name)
      if (to === entry.name) continue
      this.renames.set(renameKey(entry), to)
      const templates = claimTemplates(object)
      if (templates.length > 0) workloads.set(entry.name, { to, templates })
    }
    // A claim that a template made bears the workload's name.
    for (const { entry } of this.picked) {
      if (entry.kind !== 'PersistentVolumeClaim') continue
      for (const [name, { to, templates }] of workloads) {
        const parts = claimParts(entry.name, name, templates)
        if (parts) this.renames.set(renameKey(entry), `${parts.template}-${to}-${parts.ordinal}`)
      }
    }
  }

  private free({ group, kind }: ObjectEntry, name: string): string {
    for (let number = 1; ; number++) {
      const candidate = `${name}-then${number === 1 ? '' : number}`
      if (!this.existing(group, kind, this.into, candidate)) return candidate
    }
  }

  plan(): { plan: NamespacePlan; objects: PlannedObject[] } {
    const { manifest, target } = this.input
    const planned = inOrder(this.picked.map(({ entry, object }) => this.planObject(entry, object)))
    const volumes = this.volumes.map((volume) => this.planVolume(volume))
    const active = planned.filter(({ operation }) => operation.verb !== 'leave')
    const isNeeded = active.some(({ operation }) => operation.namespace !== null) || volumes.some(({ verb }) => verb !== 'leave')
    const makes = isNeeded && !target.namespaces.has(this.into)
    const { blockers, warnings } = preflight({
      into: this.into,
      target,
      planned: active,
      wish: this.wish,
      isSamePlace: target.source === this.input.source && this.into === manifest.name,
      all: this.picked.map(({ object }) => object),
    })
    const filled = volumes.filter(({ verb }) => verb !== 'leave')
    return {
      objects: planned,
      plan: {
        namespace: pathOf(this.input.source, manifest.name),
        source: target.source,
        into: this.into,
        makes,
        labels: manifest.labels,
        operations: planned.map(({ operation }) => operation),
        volumes,
        blockers: [...this.troubles, ...blockers],
        warnings,
        unplugged: this.whyUnplugged(active),
        needs: rightsNeeded({ makes, volumes, into: this.into }, planned, target.served),
        bytes: filled.reduce((sum, { bytes }) => sum + bytes, 0),
        files: filled.reduce((sum, { files }) => sum + files, 0),
        asks: {
          classes: classesAsked(this.picked.map(({ object }) => object)),
          registries: registriesOf(this.picked.map(({ object }) => object)),
        },
        there: { classes: target.classes },
        overwrites:
          planned.filter(({ operation }) => operation.verb === 'replace' || operation.verb === 'merge').length +
          volumes.filter(({ verb }) => verb === 'replace' || verb === 'merge').length,
      },
    }
  }

  private whyUnplugged(active: PlannedObject[]): string | null {
    const isReached = active.some(({ operation: { kind } }) => kind === 'Ingress' || kind === 'Service')
    if (!this.isCopy || !isReached || this.input.asked.cluster.exposure !== null) return null
    return `${this.input.manifest.name} is alive beside it, so no service or ingress of this copy is reached from outside of the cluster: none answers in the original’s place.`
  }

  private readonly troubles: Blocker[] = []

  private planObject(entry: ObjectEntry, before: ClusterObject): PlannedObject {
    const namespace = this.namespaceOf(entry)
    const { object: mapped, notes, trouble } = mapObject(before, namespace, this.wish, namespace === null ? new Map() : this.renames)
    if (trouble) this.troubles.push({ code: 'change_impossible', what: trouble, next: 'Mend the change, or leave it out.' })
    const rest = this.wish.atRest ? atRest(mapped) : null
    const object = rest ? rest.resting : mapped
    if (rest)
      notes.push(
        `left at rest: ${Object.entries(rest.start)
          .map(([field, value]) => `${field} was ${value}`)
          .join(', ')}`,
      )
    const group = groupOf(object.apiVersion)
    const kind = object.kind ?? entry.kind
    const name = object.metadata.name
    const now = this.existing(group, kind, namespace, name)
    const operation: ObjectOperation = {
      path: entry.path,
      kind,
      group,
      name,
      namespace,
      target: objectPath(this.input.target.source, namespace ?? undefined, group, kind, name),
      phase: phaseOf(kind),
      verb: 'create',
      anew: [],
      renamed: name !== entry.name,
      stands: now !== undefined,
      same: false,
      notes,
      warnings: [],
    }
    const leave = (note: string, same = false) => {
      Object.assign(operation, { verb: 'leave', same })
      operation.notes = [note]
    }
    const out =
      this.isLeftOut(kind) ??
      (this.wish.atRest && operation.phase === 'start' ? 'It would run at once, and workloads are left at rest.' : null)
    if (out) leave(out)
    else if (now) this.collide(operation, object, now, leave)
    return { operation, object }
  }

  private collide(
    operation: ObjectOperation,
    object: ClusterObject,
    now: ClusterObject,
    leave: (note: string, same?: boolean) => void,
  ): void {
    const collision = this.collisionOf(operation.path)
    if (holds(object, now)) leave('It stands there as it was.', true)
    else if (collision === 'skip' || collision === 'rename') leave('Something of this name stands there and stays.')
    else {
      operation.verb = collision
      operation.anew = fixedFields(object, now)
      if (operation.anew.length > 0 && collision === 'merge') leave(`It can’t be merged: ${operation.anew.join(', ')} can’t be changed.`)
      else if (operation.anew.length > 0)
        operation.warnings.push(`It is removed and made anew, because ${operation.anew.join(', ')} can’t be changed.`)
    }
  }

  private planVolume(volume: VolumeManifest): VolumeOperation {
    const claim =
      this.renames.get(renameKey({ kind: 'PersistentVolumeClaim', name: volume.claim })) ??
      `${this.wish.prefix}${volume.claim}${this.wish.suffix}`
    const standing = this.existing('', 'PersistentVolumeClaim', this.into, claim)
    const only = this.wish.files[volume.path] ?? null
    const { collide } = this.input.asked
    const collision = this.input.asked.each[volume.path] ?? (only ? 'merge' : collide)
    const { files, bytes } = this.input.picked?.[volume.path] ?? volume
    const operation: VolumeOperation = {
      path: volume.path,
      claim,
      namespace: this.into,
      target: volumePath(this.input.target.source, this.into, claim),
      verb: !standing ? 'create' : collision === 'skip' || collision === 'rename' ? 'leave' : collision,
      stands: Boolean(standing),
      renamed: claim !== volume.claim,
      files,
      bytes,
      only,
      notes: [],
      warnings: [],
    }
    if (operation.verb === 'leave') operation.notes.push('A volume of this name stands there and stays.')
    if (operation.verb === 'replace') operation.warnings.push('What is in the volume now is removed; it is kept as a point first.')
    if (operation.verb === 'merge') operation.warnings.push('Files of the same name are overwritten; others stay.')
    if (volume.onlyAt !== undefined)
      this.troubles.push({
        code: 'one_place_only',
        what: `The data of ${volume.path} is only at its source, in the snapshot ${volume.onlyAt}.`,
        next: 'Read it into the store first, on the lifeline, or leave the volume out.',
      })
    const claimed = this.picked.some(({ entry }) => entry.kind === 'PersistentVolumeClaim' && entry.name === volume.claim)
    if (!standing && !claimed)
      this.troubles.push({
        code: 'claim_missing',
        what: `${operation.target} has no claim there, and its claim is not picked.`,
        next: 'Pick the volume as a whole.',
      })
    return operation
  }
}

/** By phase, then by kind and name. Texts are made once, because there may be tens of thousands. */
function inOrder(planned: PlannedObject[]): PlannedObject[] {
  const by = ({ operation: { phase, kind, target } }: PlannedObject) => `${String(PHASES.indexOf(phase)).padStart(2)} ${kind} ${target}`
  return planned
    .map((object) => ({ object, by: by(object) }))
    .sort((a, b) => (a.by < b.by ? -1 : 1))
    .map(({ object }) => object)
}

/** Classes that the objects of a point ask for, for the person who maps them. */
function classesAsked(objects: ClusterObject[]): string[] {
  return [...new Set(objects.flatMap((object) => classesOf(object).map((holder) => String(holder.storageClassName ?? ''))))]
    .filter(Boolean)
    .sort()
}

/** Registries that images of a point come from: everything before the last slash. */
function registriesOf(objects: ClusterObject[]): string[] {
  const images = objects.flatMap((object) => containersOf(object) as { image?: string }[])
  return [...new Set(images.map(({ image = '' }) => image.slice(0, Math.max(0, image.indexOf('/')))))]
    .filter((name) => name.includes('.'))
    .sort()
}

/** Whether what comes back stands beside a living original in the same cluster. */
function isCopyBeside({ source, manifest, target, asked: { cluster } }: PlanInput): boolean {
  if (target.source !== source || manifest.name === CLUSTER_WIDE || target.namespaces.get(manifest.name)?.phase !== 'Active') return false
  return (cluster.namespaces[manifest.name] ?? manifest.name) !== manifest.name || cluster.prefix + cluster.suffix !== ''
}
