import type { ClusterObject } from './clean'
import { classesOf, UNPLUGGED } from './mapping'
import type { Blocker, PlannedObject } from './operations'
import { podSpec, templateLabels } from './pods'
import { chooses, eachReference } from './references'
import { objectKey, quantity, type ClusterState } from './target'
import { groupOf, versionOf } from './versions'
import type { ClusterWish } from './wish'

export interface PreflightInput {
  into: string
  target: ClusterState
  /** What will be made or changed. */
  planned: PlannedObject[]
  wish: ClusterWish
  isSamePlace: boolean
  /** Everything that is picked, as it was. */
  all: ClusterObject[]
}

/** What stands in the way of a plan at its target, and what a person should know before. */
export function preflight(input: PreflightInput): { blockers: Blocker[]; warnings: string[] } {
  const blockers = [...ending(input), ...unserved(input), ...classless(input), ...overQuota(input)]
  return { blockers, warnings: [...unmet(input), ...exposed(input), ...shared(input)] }
}

function ending({ into, target }: PreflightInput): Blocker[] {
  if (target.namespaces.get(into)?.phase !== 'Terminating') return []
  const what = `The namespace ${into} of ${target.source} is being removed, and takes nothing.`
  return [{ code: 'namespace_ending', what, next: 'Wait until it is gone, or choose another name.' }]
}

/** Kinds and versions that the target does not know, unless their definition comes along. */
function unserved({ target, planned }: PreflightInput): Blocker[] {
  const known = new Map<string, string[]>()
  for (const { group, kind, version } of target.served) known.set(`${group}/${kind}`, [...(known.get(`${group}/${kind}`) ?? []), version])
  for (const { object } of planned) {
    if (object.kind !== 'CustomResourceDefinition') continue
    const spec = object.spec as { group: string; names: { kind: string }; versions?: { name: string; served?: boolean }[] }
    const versions = (spec.versions ?? []).filter(({ served }) => served !== false).map(({ name }) => name)
    known.set(`${spec.group}/${spec.names.kind}`, [...(known.get(`${spec.group}/${spec.names.kind}`) ?? []), ...versions])
  }
  const found = new Map<string, Blocker>()
  for (const { object } of planned) {
    const versions = known.get(`${groupOf(object.apiVersion)}/${object.kind}`)
    if (versions?.includes(versionOf(object.apiVersion))) continue
    const what = `${target.source} serves no ${object.kind} of ${object.apiVersion}.`
    const next = versions
      ? `It serves ${versions.join(', ')}: change /apiVersion, or leave these out.`
      : 'Install what defines it there, or leave these out.'
    found.set(what, { code: 'not_served', what, next })
  }
  return [...found.values()]
}

function classless({ target, planned }: PreflightInput): Blocker[] {
  const coming = new Set(planned.filter(({ object }) => object.kind === 'StorageClass').map(({ object }) => object.metadata.name))
  const missing = new Map<string, string>()
  for (const { object, operation } of planned) {
    if (operation.verb === 'merge') continue
    for (const holder of classesOf(object)) {
      const name = holder.storageClassName as string | undefined
      if (name === '' || (name !== undefined && (target.classes.includes(name) || coming.has(name)))) continue
      if (name === undefined && target.defaultClass !== null) continue
      missing.set(name ?? '', object.metadata.name)
    }
  }
  const there = target.classes.length > 0 ? target.classes.join(', ') : 'none'
  return [...missing].map(([name, by]) => ({
    code: 'class_missing',
    what:
      name === ''
        ? `${by} names no storage class, and ${target.source} has no default one.`
        : `${target.source} has no storage class ${name}, which ${by} asks for.`,
    next: `Say which class is to be used in its place; there are: ${there}.`,
  }))
}

/** What quotas of the target namespace would not let through. */
function overQuota({ into, target, planned }: PreflightInput): Blocker[] {
  const adds = new Map<string, number>()
  const add = (name: string, by: number) => adds.set(name, (adds.get(name) ?? 0) + by)
  for (const { object, operation } of planned) {
    if (operation.verb !== 'create' || operation.namespace === null) continue
    const plural = `${operation.kind.toLowerCase()}s`
    add(operation.group === '' ? plural : `count/${plural}.${operation.group}`, 1)
    if (operation.group === '') add(`count/${plural}`, 1)
    if (operation.kind !== 'PersistentVolumeClaim') continue
    const spec = object.spec as { resources?: { requests?: { storage?: string } }; storageClassName?: string }
    const bytes = quantity(spec.resources?.requests?.storage) ?? 0
    add('requests.storage', bytes)
    if (spec.storageClassName) add(`${spec.storageClassName}.storageclass.storage.k8s.io/requests.storage`, bytes)
  }
  return target.quotas
    .filter(({ namespace }) => namespace === into)
    .flatMap(({ name, hard, used }) =>
      Object.entries(hard).flatMap(([what, limit]) => {
        const [most, now, more] = [quantity(limit), quantity(used[what]) ?? 0, adds.get(what) ?? 0]
        if (most === null || more === 0 || now + more <= most) return []
        return [
          {
            code: 'over_quota',
            what: `The quota ${name} of ${into} lets ${limit} of ${what} be there; ${used[what] ?? 0} are, and ${inWords(what, more)} more would come.`,
            next: 'Raise it, pick less, or choose another namespace.',
          },
        ]
      }),
    )
}

const inWords = (what: string, count: number) => (what.endsWith('storage') ? `${Math.round(count / 2 ** 20)}Mi` : String(count))

/** What things need that neither stands there nor comes back with them. */
function unmet({ into, target, planned, all }: PreflightInput): string[] {
  const coming = new Set(planned.map(({ operation: { group, kind, namespace, name } }) => objectKey(group, kind, namespace, name)))
  const left = new Map<string, string>()
  for (const { object, operation } of planned) {
    eachReference(object, ({ group, kind, name, wide }) => {
      const key = objectKey(group, kind, wide ? null : into, name)
      if (kind === 'StorageClass' || name === UNPLUGGED || coming.has(key) || target.objects.has(key)) return
      left.set(`${kind} ${name}`, `${operation.kind} ${operation.name}`)
    })
  }
  const known = new Set(all.map(({ kind, metadata }) => `${kind} ${metadata.name}`))
  return [...left].map(([what, by]) => `${by} needs ${what}, which ${known.has(what) ? 'is left out' : 'is not picked'} and is not there.`)
}

/** Ingresses that would answer for the same hosts as the original, which is alive. */
function exposed({ target, planned, wish, isSamePlace }: PreflightInput): string[] {
  if (wish.exposure !== 'keep' || isSamePlace) return []
  const hosts = (object: ClusterObject) =>
    ((object.spec as { rules?: { host?: string }[] } | undefined)?.rules ?? []).flatMap(({ host }) => host ?? [])
  const taken = new Map<string, string>()
  for (const [key, object] of target.objects)
    if (object.kind === 'Ingress') for (const host of hosts(object)) taken.set(host, key.split(' ').slice(2).join('/'))
  return planned.flatMap(({ object, operation }) =>
    operation.kind === 'Ingress'
      ? hosts(object)
          .filter((host) => taken.has(host))
          .map(
            (host) => `${host} is answered by the ingress ${taken.get(host)} already: unplug or leave out what comes back, or both answer.`,
          )
      : [],
  )
}

/** Renamed workloads beside their originals: the same labels let the same services send to both. */
function shared({ target, planned, into }: PreflightInput): string[] {
  const services = [...target.objects.values()].filter(({ kind, metadata }) => kind === 'Service' && metadata.namespace === into)
  return planned.flatMap(({ object, operation }) => {
    if (!operation.renamed || !podSpec(object)) return []
    const found = services.find(({ spec }) => chooses(spec?.selector as Record<string, string> | undefined, templateLabels(object)))
    return found
      ? [`The service ${found.metadata.name} would send to ${operation.name} as well, because its pods bear the same labels.`]
      : []
  })
}
