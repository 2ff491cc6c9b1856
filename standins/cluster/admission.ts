import { cronOf } from './cron-jobs'
import { randomBytes } from 'node:crypto'
import { badRequest, Failure, forbidden, invalid } from './failure'
import type { Objects } from './objects'
import { apiVersionOf, type KubeObject, type Metadata, type ResourceType } from './resources'

// What the API does to objects before it keeps them: names, what is missing, what may not be changed, quotas.

const NAME = /^[a-z0-9]([a-z0-9.:-]*[a-z0-9])?$/
const PVC = { group: '', plural: 'persistentvolumeclaims' }

export function prepared(type: ResourceType, namespace: string | undefined, body: unknown, manager: string): KubeObject {
  const object = structuredClone(body) as KubeObject
  if (typeof object !== 'object' || object === null) throw badRequest('the body is not an object')
  object.metadata ??= {} as Metadata
  const { metadata } = object
  if (object.kind && object.kind !== type.kind) throw badRequest(`${object.kind} can't be made as ${type.kind}`)
  if (object.apiVersion && object.apiVersion !== apiVersionOf(type))
    throw badRequest(`the API version in the data (${object.apiVersion}) does not match the expected API version (${apiVersionOf(type)})`)
  if (metadata.resourceVersion) throw badRequest('resourceVersion should not be set on objects to be created')
  if (type.namespaced) {
    if (metadata.namespace && metadata.namespace !== namespace)
      throw badRequest(`the namespace of the object (${metadata.namespace}) does not match the namespace of the request (${namespace})`)
    metadata.namespace = namespace
  } else delete metadata.namespace
  if (!metadata.name && metadata.generateName) metadata.name = metadata.generateName + randomBytes(3).toString('hex').slice(0, 5)
  if (!metadata.name || metadata.name.length > 253 || !NAME.test(metadata.name))
    throw invalid(type, metadata.name ?? '', 'metadata.name', 'a lowercase name of letters, digits, "-" and "." is needed')
  metadata.managedFields = [{ manager, operation: 'Update', apiVersion: apiVersionOf(type), time: new Date().toISOString() }]
  delete metadata.deletionTimestamp
  return object
}

/** Refuses what can't be in its namespace. */
export function ensureRoom(type: ResourceType, objects: Objects, object: KubeObject): void {
  const { namespace, name } = object.metadata
  if (!namespace) return
  const home = objects.find({ group: '', plural: 'namespaces' }, undefined, namespace)
  if (!home) throw new Failure(404, 'NotFound', `namespaces "${namespace}" not found`, { name: namespace, kind: 'namespaces' })
  if (home.metadata.deletionTimestamp)
    throw forbidden(type, name, `unable to create new content in namespace ${namespace} because it is being terminated`)
  for (const quota of objects.list({ group: '', plural: 'resourcequotas' }, namespace)) {
    for (const [what, most] of Object.entries((quota.spec?.hard ?? {}) as Record<string, string>)) {
      const [asked, used] = amountsOf(what, type, objects, object)
      if (asked > 0 && used + asked > quantityOf(most))
        throw forbidden(type, name, `exceeded quota: ${quota.metadata.name}, requested: ${what}=${asked}, used: ${used}, limited: ${most}`)
    }
  }
}

const storageOf = ({ spec }: KubeObject) => quantityOf(spec?.resources?.requests?.storage ?? '0')

/** What an object asks for of one resource of a quota, and what its namespace uses of it. */
function amountsOf(what: string, type: ResourceType, objects: Objects, object: KubeObject): [number, number] {
  const { namespace } = object.metadata
  if (what === 'requests.storage') {
    if (type.kind !== 'PersistentVolumeClaim') return [0, 0]
    return [storageOf(object), objects.list(PVC, namespace).reduce((sum, claim) => sum + storageOf(claim), 0)]
  }
  const counted = what.replace(/^count\//, '')
  if (counted !== (type.group ? `${type.plural}.${type.group}` : type.plural)) return [0, 0]
  return [1, objects.list(type, namespace).length]
}

/** What a quota's namespace uses of everything that it limits. */
export function usedOf(objects: Objects, types: ResourceType[], quota: KubeObject): Record<string, string> {
  const used: Record<string, string> = {}
  for (const what of Object.keys((quota.spec?.hard ?? {}) as object)) {
    const counted = what === 'requests.storage' ? 'persistentvolumeclaims' : what.replace(/^count\//, '')
    const type = types.find(({ group, plural }) => (group ? `${plural}.${group}` : plural) === counted)
    if (type) used[what] = String(amountsOf(what, type, objects, quota)[1])
  }
  return used
}

const UNITS: Record<string, number> = {
  '': 1,
  k: 1e3,
  M: 1e6,
  G: 1e9,
  T: 1e12,
  Ki: 2 ** 10,
  Mi: 2 ** 20,
  Gi: 2 ** 30,
  Ti: 2 ** 40,
  m: 1e-3,
}

/** A quantity such as `10Gi` or `500m` as a number. */
export function quantityOf(text: string): number {
  const match = /^([0-9.]+)([A-Za-z]*)$/.exec(String(text))
  return match ? Number(match[1]) * (UNITS[match[2]!] ?? Number.NaN) : Number.NaN
}

const DEFAULTS: Record<string, (object: KubeObject, objects: Objects) => void> = {
  Namespace: (object) => {
    object.spec = { finalizers: ['kubernetes'] }
    object.status = { phase: 'Active' }
    object.metadata.labels = { ...object.metadata.labels, 'kubernetes.io/metadata.name': object.metadata.name }
  },
  Service: (object, objects) => {
    const used = new Set(objects.list({ group: '', plural: 'services' }).map(({ spec }) => spec?.clusterIP))
    const free = () => {
      for (let i = 2; ; i++) if (!used.has(`10.96.${i >> 8}.${i & 255}`)) return `10.96.${i >> 8}.${i & 255}`
    }
    const spec = (object.spec ??= {})
    spec.type ??= 'ClusterIP'
    if (spec.type !== 'ExternalName') spec.clusterIP ??= free()
    spec.clusterIPs ??= [spec.clusterIP]
    spec.sessionAffinity ??= 'None'
    for (const port of spec.ports ?? []) Object.assign(port, { protocol: port.protocol ?? 'TCP', targetPort: port.targetPort ?? port.port })
  },
  PersistentVolumeClaim: (object, objects) => {
    const spec = (object.spec ??= {})
    spec.volumeMode ??= 'Filesystem'
    spec.storageClassName ??= objects
      .list({ group: 'storage.k8s.io', plural: 'storageclasses' })
      .find(({ metadata }) => metadata.annotations?.['storageclass.kubernetes.io/is-default-class'] === 'true')?.metadata.name
    object.metadata.finalizers = [...new Set([...(object.metadata.finalizers ?? []), 'kubernetes.io/pvc-protection'])]
    object.status = { phase: 'Pending' }
  },
  PersistentVolume: (object) => void (object.status = { phase: 'Available' }),
  Pod: (object) => {
    const spec = (object.spec ??= {})
    spec.restartPolicy ??= 'Always'
    spec.serviceAccountName ??= 'default'
    spec.terminationGracePeriodSeconds ??= 30
    spec.dnsPolicy ??= 'ClusterFirst'
    object.status = { phase: 'Pending' }
  },
  Deployment: ({ spec }) => {
    if (!spec) return
    spec.replicas ??= 1
    spec.strategy ??= { type: 'RollingUpdate', rollingUpdate: { maxSurge: '25%', maxUnavailable: '25%' } }
    spec.revisionHistoryLimit ??= 10
    spec.progressDeadlineSeconds ??= 600
  },
  StatefulSet: ({ spec }) => {
    if (!spec) return
    spec.replicas ??= 1
    spec.podManagementPolicy ??= 'OrderedReady'
    spec.updateStrategy ??= { type: 'RollingUpdate', rollingUpdate: { partition: 0 } }
  },
  Job: (object) => {
    const spec = (object.spec ??= {})
    spec.completions ??= 1
    spec.parallelism ??= 1
    spec.backoffLimit ??= 6
  },
  CronJob: ({ spec }) => {
    if (!spec) return
    spec.concurrencyPolicy ??= 'Allow'
    spec.suspend ??= false
    spec.successfulJobsHistoryLimit ??= 3
    spec.failedJobsHistoryLimit ??= 1
  },
}

export function withDefaults(object: KubeObject, objects: Objects): KubeObject {
  DEFAULTS[object.kind]?.(object, objects)
  return object
}

const needed: Record<string, string[]> = {
  Deployment: ['selector', 'template'],
  StatefulSet: ['selector', 'template'],
  DaemonSet: ['selector', 'template'],
  Job: ['template'],
  CronJob: ['schedule', 'jobTemplate'],
  PersistentVolumeClaim: ['accessModes', 'resources'],
  CustomResourceDefinition: ['group', 'names', 'scope', 'versions'],
  Pod: ['containers'],
}

export function ensureValid(type: ResourceType, object: KubeObject): void {
  const missing = needed[type.kind]?.find((field) => object.spec?.[field] === undefined)
  if (missing) throw invalid(type, object.metadata.name, `spec.${missing}`, 'Required value')
  if (type.kind === 'CronJob') ensureSchedule(type, object)
}

function ensureSchedule(type: ResourceType, { metadata, spec }: KubeObject): void {
  try {
    cronOf(spec!.schedule, spec!.timeZone).nextRun()
  } catch (error) {
    throw invalid(type, metadata.name, 'spec.schedule', (error as Error).message)
  }
}

/** Fields of the spec that stay as they were made; `*` is all but the named ones. */
const FIXED: Record<string, { all?: string[]; only?: string[]; also?: string[] }> = {
  PersistentVolumeClaim: { all: ['resources', 'volumeName'] },
  StatefulSet: { all: ['replicas', 'template', 'updateStrategy', 'minReadySeconds', 'ordinals', 'persistentVolumeClaimRetentionPolicy'] },
  Deployment: { only: ['selector'] },
  DaemonSet: { only: ['selector'] },
  Job: { only: ['selector', 'template', 'completions'] },
  Service: { only: ['clusterIP'] },
  StorageClass: { also: ['provisioner', 'parameters', 'reclaimPolicy', 'volumeBindingMode'] },
  RoleBinding: { also: ['roleRef'] },
  ClusterRoleBinding: { also: ['roleRef'] },
}

export function ensureUnfixed(type: ResourceType, before: KubeObject, after: KubeObject): void {
  const same = (a: unknown, b: unknown) => JSON.stringify(a) === JSON.stringify(b)
  const refuse = (field: string) => {
    throw invalid(type, after.metadata.name, field, 'field is immutable')
  }
  if (before.immutable === true && !same(before.data, after.data)) refuse('data')
  const { all, only, also } = FIXED[type.kind] ?? {}
  for (const field of also ?? []) if (!same(before[field], after[field])) refuse(field)
  const fields = all
    ? Object.keys({ ...before.spec, ...after.spec }).filter((field) => !all.includes(field))
    : (only ?? []).filter((field) => before.spec?.[field] !== undefined)
  for (const field of fields) if (!same(before.spec?.[field], after.spec?.[field])) refuse(`spec.${field}`)
}
