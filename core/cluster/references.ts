import type { ClusterObject } from './clean'
import { containersOf, list, podSpec, type Fields } from './pods'
import { groupOf } from './versions'

// What an object uses, by the standard fields of the API; and the same fields written anew, when what is used has
// another name.

export interface Reference {
  group: string
  kind: string
  name: string
  /** Whether it lies in no namespace. */
  wide?: boolean
}

/** Told of each reference, and where its name stands. */
type Visit = (reference: Reference, holder: Fields, field: string) => void

function one(visit: Visit, kind: string, holder: unknown, field = 'name', group = '', wide = false): void {
  const fields = holder as Fields | undefined
  const name: unknown = fields?.[field]
  if (typeof name === 'string' && name !== '') visit({ group, kind, name, ...(wide ? { wide } : {}) }, fields!, field)
}

const storageClass = (visit: Visit, spec: Fields | undefined) =>
  one(visit, 'StorageClass', spec, 'storageClassName', 'storage.k8s.io', true)

function pods(visit: Visit, object: ClusterObject): void {
  const spec = podSpec(object)
  if (!spec) return
  for (const volume of list(spec.volumes)) {
    one(visit, 'PersistentVolumeClaim', volume.persistentVolumeClaim, 'claimName')
    one(visit, 'ConfigMap', volume.configMap)
    one(visit, 'Secret', volume.secret, 'secretName')
    for (const source of list(volume.projected?.sources)) {
      one(visit, 'ConfigMap', source.configMap)
      one(visit, 'Secret', source.secret)
    }
  }
  for (const container of containersOf(object)) {
    for (const from of list(container.envFrom)) {
      one(visit, 'ConfigMap', from.configMapRef)
      one(visit, 'Secret', from.secretRef)
    }
    for (const { valueFrom } of list(container.env)) {
      one(visit, 'ConfigMap', valueFrom?.configMapKeyRef)
      one(visit, 'Secret', valueFrom?.secretKeyRef)
    }
  }
  if (spec.serviceAccountName !== 'default') one(visit, 'ServiceAccount', spec, 'serviceAccountName')
  for (const secret of list(spec.imagePullSecrets)) one(visit, 'Secret', secret)
}

function binding(visit: Visit, { roleRef, subjects, metadata }: Fields): void {
  if (roleRef) one(visit, roleRef.kind, roleRef, 'name', 'rbac.authorization.k8s.io', roleRef.kind === 'ClusterRole')
  for (const subject of list(subjects))
    if (subject.kind === 'ServiceAccount' && (subject.namespace ?? metadata.namespace) === metadata.namespace)
      one(visit, 'ServiceAccount', subject)
}

const OF_KIND: Record<string, (visit: Visit, object: ClusterObject & Fields) => void> = {
  Pod: pods,
  Deployment: pods,
  DaemonSet: pods,
  Job: pods,
  CronJob: pods,
  StatefulSet: (visit, object) => {
    pods(visit, object)
    one(visit, 'Service', object.spec, 'serviceName')
    for (const claim of list(object.spec?.volumeClaimTemplates)) storageClass(visit, claim.spec)
  },
  PersistentVolumeClaim: (visit, { spec }) => storageClass(visit, spec),
  ServiceAccount: (visit, { secrets, imagePullSecrets }) => {
    for (const secret of [...list(secrets), ...list(imagePullSecrets)]) one(visit, 'Secret', secret)
  },
  Ingress: (visit, { spec }) => {
    for (const tls of list(spec?.tls)) one(visit, 'Secret', tls, 'secretName')
    for (const { http } of list(spec?.rules)) for (const { backend } of list(http?.paths)) one(visit, 'Service', backend?.service)
    one(visit, 'Service', (spec?.defaultBackend as Fields | undefined)?.service)
    one(visit, 'IngressClass', spec, 'ingressClassName', 'networking.k8s.io', true)
  },
  RoleBinding: binding,
  HorizontalPodAutoscaler: (visit, { spec }) => {
    const target = spec?.scaleTargetRef as Fields | undefined
    if (target?.kind) one(visit, target.kind, target, 'name', groupOf(target.apiVersion))
  },
}

export function eachReference(object: ClusterObject, visit: Visit): void {
  OF_KIND[object.kind ?? '']?.(visit, object)
}

/** What an object needs in its namespace, or in none, to work; each once. */
export function referencesOf(object: ClusterObject): Reference[] {
  const found = new Map<string, Reference>()
  const add = (reference: Reference) => found.set(`${reference.group} ${reference.kind} ${reference.name}`, reference)
  eachReference(object, add)
  // A custom object needs its definition; which kinds are custom the caller knows.
  const name = `${groupOf(object.apiVersion)}/${object.kind}`
  add({ group: 'apiextensions.k8s.io', kind: 'CustomResourceDefinition', name, wide: true })
  return [...found.values()]
}

/** A service's selector against labels; one that is empty chooses nothing. */
export function chooses(selector: Record<string, string> | undefined, labels: Record<string, string>): boolean {
  return (
    selector !== undefined && Object.keys(selector).length > 0 && Object.entries(selector).every(([key, value]) => labels[key] === value)
  )
}
