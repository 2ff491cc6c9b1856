import jsonPatch from 'fast-json-patch'
import type { ClusterObject } from './clean'
import { fitting } from '../selection/wildcards'
import { containersOf, isFields, list, type Fields } from './pods'
import { eachReference, type Reference } from './references'
import type { ClusterWish } from './wish'

/** New names of things, by `kind name`; what is not in it keeps its own. */
export type Renames = Map<string, string>
export const renameKey = ({ kind, name }: Pick<Reference, 'kind' | 'name'>) => `${kind} ${name}`

export interface Mapped {
  object: ClusterObject
  /** What was changed, in words. */
  notes: string[]
  /** Why a change of the person's can't be made. */
  trouble: string | null
}

/** The class of an ingress that no controller serves. */
export const UNPLUGGED = 'unplugged'

/** Storage classes that an object asks for, where they are written. */
export function classesOf(object: ClusterObject): Fields[] {
  const spec = object.spec as Fields | undefined
  if (object.kind === 'PersistentVolumeClaim') return spec ? [spec] : []
  if (object.kind !== 'StatefulSet') return []
  return list(spec?.volumeClaimTemplates).flatMap((claim) => (claim.spec ? [claim.spec as Fields] : []))
}

/** An object as it will be at its target. Nothing is changed in place. */
export function mapObject(before: ClusterObject, namespace: string | null, wish: ClusterWish, renames: Renames): Mapped {
  // Objects of an API are JSON, and this is several times as fast as a structured clone.
  const object = JSON.parse(JSON.stringify(before)) as ClusterObject
  const notes: string[] = []
  place(object, before, namespace, wish)
  rename(object, renames, notes)
  for (const holder of classesOf(object)) {
    const to = wish.classes[String(holder.storageClassName ?? '')]
    if (!to || to === holder.storageClassName) continue
    notes.push(`storage class ${holder.storageClassName} becomes ${to}`)
    holder.storageClassName = to
  }
  relabel(object, wish, notes)
  changeImages(object, wish, notes)
  if (wish.exposure === 'unplug') unplug(object, notes)
  const trouble = change(object, before, wish, notes)
  return { object, notes, trouble }
}

function place(object: ClusterObject, before: ClusterObject, namespace: string | null, wish: ClusterWish): void {
  const was = before.metadata.namespace
  if (namespace !== null && was !== undefined) object.metadata.namespace = namespace
  // Bindings name the namespaces of accounts, webhooks those of services.
  for (const subject of list(object.subjects))
    if (subject.namespace !== undefined) subject.namespace = wish.namespaces[subject.namespace as string] ?? subject.namespace
}

function rename(object: ClusterObject, renames: Renames, notes: string[]): void {
  const renamed = renames.get(renameKey({ kind: object.kind ?? '', name: object.metadata.name }))
  if (renamed && renamed !== object.metadata.name) {
    notes.push(`${object.metadata.name} becomes ${renamed}`)
    object.metadata.name = renamed
  }
  eachReference(object, (reference, holder, field) => {
    const to = renames.get(renameKey(reference))
    if (to) holder[field] = to
  })
}

function relabel(object: ClusterObject, { labels }: ClusterWish, notes: string[]): void {
  for (const [name, value] of Object.entries(labels)) {
    const copied = (object.metadata.labels ??= {})
    if (value === null) {
      if (Object.hasOwn(copied, name)) notes.push(`without label ${name}`)
      delete copied[name]
    } else if (copied[name] !== value) {
      notes.push(`label ${name} becomes ${value}`)
      copied[name] = value
    }
  }
  if (object.metadata.labels && Object.keys(object.metadata.labels).length === 0) delete object.metadata.labels
}

function changeImages(object: ClusterObject, { registries }: ClusterWish, notes: string[]): void {
  const longest = Object.entries(registries).sort(([a], [b]) => b.length - a.length)
  for (const container of containersOf(object)) {
    const image = String(container.image ?? '')
    const found = longest.find(([from]) => image === from || image.startsWith(from.endsWith('/') ? from : `${from}/`))
    if (!found) continue
    container.image = found[1] + image.slice(found[0].length)
    notes.push(`image ${image} becomes ${container.image}`)
  }
}

/** Nothing outside of the cluster leads to it any more; inside it is reached as before. */
function unplug(object: ClusterObject, notes: string[]): void {
  const spec = object.spec as Fields | undefined
  if (!spec) return
  if (object.kind === 'Ingress') {
    spec.ingressClassName = UNPLUGGED
    notes.push('unplugged: no controller serves it')
  }
  if (object.kind !== 'Service' || (spec.type ?? 'ClusterIP') === 'ClusterIP') return
  notes.push(`unplugged: a ${spec.type} becomes reachable in the cluster only`)
  spec.type = 'ClusterIP'
  for (const field of ['externalIPs', 'loadBalancerIP', 'externalName', 'externalTrafficPolicy', 'loadBalancerClass']) delete spec[field]
  for (const port of list(spec.ports)) delete port.nodePort
}

function change(object: ClusterObject, before: ClusterObject, { changes }: ClusterWish, notes: string[]): string | null {
  for (const { kind, name, patch } of changes) {
    if ((kind !== '*' && kind !== object.kind) || !fitting(name || '*')(before.metadata.name)) continue
    try {
      const { newDocument: changed } = jsonPatch.applyPatch(structuredClone(object), structuredClone(patch), true, true)
      if (!hasForm(changed)) return `A change can’t be made to ${object.kind} ${object.metadata.name}: what it makes is no object any more.`
      for (const field of Object.keys(object)) delete object[field]
      Object.assign(object, changed)
      notes.push(`changed: ${patch.map(({ op, path }) => `${op} ${path}`).join(', ')}`)
    } catch (error) {
      const why = error instanceof jsonPatch.JsonPatchError ? error.name.toLowerCase().replaceAll('_', ' ') : (error as Error).message
      return `A change can’t be made to ${object.kind} ${object.metadata.name}: ${why}.`
    }
  }
  return null
}

/** Whether something has the form that every object of a cluster has. */
function hasForm(object: unknown): object is ClusterObject {
  if (!isFields(object) || !isFields(object.metadata)) return false
  const { name, namespace, labels, annotations } = object.metadata
  return (
    [object.kind, object.apiVersion, name].every((text) => typeof text === 'string' && text !== '') &&
    (namespace === undefined || typeof namespace === 'string') &&
    [object.spec, labels, annotations].every((part) => part === undefined || part === null || isFields(part))
  )
}
