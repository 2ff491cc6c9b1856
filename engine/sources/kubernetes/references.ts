import { groupOf, type KubeObject } from './client'

// What an object uses, by the standard fields of the API.

export interface Reference {
  group: string
  kind: string
  name: string
  /** Whether it lies in no namespace. */
  wide?: boolean
}

// eslint-disable-next-line @typescript-eslint/no-explicit-any
type Fields = Record<string, any> // Specs have any shape; what is not as expected refers to nothing.

const core = (kind: string, name: unknown): Reference[] => (typeof name === 'string' && name !== '' ? [{ group: '', kind, name }] : [])

function podReferences(spec: Fields | undefined): Reference[] {
  if (!spec) return []
  const volumes = ((spec.volumes ?? []) as Fields[]).flatMap((volume) => [
    ...core('PersistentVolumeClaim', volume.persistentVolumeClaim?.claimName),
    ...core('ConfigMap', volume.configMap?.name),
    ...core('Secret', volume.secret?.secretName),
    ...((volume.projected?.sources ?? []) as Fields[]).flatMap((source) => [
      ...core('ConfigMap', source.configMap?.name),
      ...core('Secret', source.secret?.name),
    ]),
  ])
  const containers = ([...(spec.containers ?? []), ...(spec.initContainers ?? [])] as Fields[]).flatMap((container) => [
    ...((container.envFrom ?? []) as Fields[]).flatMap((from) => [
      ...core('ConfigMap', from.configMapRef?.name),
      ...core('Secret', from.secretRef?.name),
    ]),
    ...((container.env ?? []) as Fields[]).flatMap(({ valueFrom }) => [
      ...core('ConfigMap', valueFrom?.configMapKeyRef?.name),
      ...core('Secret', valueFrom?.secretKeyRef?.name),
    ]),
  ])
  const account = spec.serviceAccountName === 'default' ? [] : core('ServiceAccount', spec.serviceAccountName)
  return [...volumes, ...containers, ...account, ...((spec.imagePullSecrets ?? []) as Fields[]).flatMap(({ name }) => core('Secret', name))]
}

const OF_KIND: Record<string, (object: Fields) => Reference[]> = {
  Pod: ({ spec }) => podReferences(spec),
  Deployment: ({ spec }) => podReferences(spec?.template?.spec),
  DaemonSet: ({ spec }) => podReferences(spec?.template?.spec),
  Job: ({ spec }) => podReferences(spec?.template?.spec),
  CronJob: ({ spec }) => podReferences(spec?.jobTemplate?.spec?.template?.spec),
  StatefulSet: ({ spec }) => [
    ...podReferences(spec?.template?.spec),
    ...core('Service', spec?.serviceName),
    ...((spec?.volumeClaimTemplates ?? []) as Fields[]).flatMap((claim) => storageClass(claim.spec?.storageClassName)),
  ],
  PersistentVolumeClaim: ({ spec }) => storageClass(spec?.storageClassName),
  ServiceAccount: ({ secrets, imagePullSecrets }) =>
    ([...(secrets ?? []), ...(imagePullSecrets ?? [])] as Fields[]).flatMap(({ name }) => core('Secret', name)),
  Ingress: ({ spec }) => [
    ...((spec?.tls ?? []) as Fields[]).flatMap(({ secretName }) => core('Secret', secretName)),
    ...((spec?.rules ?? []) as Fields[]).flatMap(({ http }) =>
      ((http?.paths ?? []) as Fields[]).flatMap(({ backend }) => core('Service', backend?.service?.name)),
    ),
    ...(spec?.ingressClassName ? [{ group: 'networking.k8s.io', kind: 'IngressClass', name: spec.ingressClassName, wide: true }] : []),
  ],
  RoleBinding: ({ roleRef, subjects, metadata }) => [
    ...(roleRef
      ? [{ group: 'rbac.authorization.k8s.io', kind: roleRef.kind, name: roleRef.name, wide: roleRef.kind === 'ClusterRole' }]
      : []),
    ...((subjects ?? []) as Fields[]).flatMap(({ kind, name, namespace }) =>
      kind === 'ServiceAccount' && (namespace ?? metadata.namespace) === metadata.namespace ? core('ServiceAccount', name) : [],
    ),
  ],
  HorizontalPodAutoscaler: ({ spec }) => {
    const { apiVersion, kind, name } = (spec?.scaleTargetRef ?? {}) as Fields
    return kind ? [{ group: groupOf(apiVersion), kind, name }] : []
  },
}

function storageClass(name: unknown): Reference[] {
  return typeof name === 'string' ? [{ group: 'storage.k8s.io', kind: 'StorageClass', name, wide: true }] : []
}

/** What an object needs in its namespace, or in none, to work; each once. */
export function referencesOf(object: KubeObject): Reference[] {
  const all = OF_KIND[object.kind ?? '']?.(object) ?? []
  // A custom object needs its definition; which kinds are custom the caller knows.
  const own = [
    { group: 'apiextensions.k8s.io', kind: 'CustomResourceDefinition', name: `${groupOf(object.apiVersion)}/${object.kind}`, wide: true },
  ]
  const found = new Map([...all, ...own].map((one) => [`${one.group} ${one.kind} ${one.name}`, one]))
  return [...found.values()]
}

/** A label selector of the API (`matchLabels`, `matchExpressions`) or a service's, against labels. */
export function chooses(selector: Record<string, string> | undefined, labels: Record<string, string>): boolean {
  return (
    selector !== undefined && Object.keys(selector).length > 0 && Object.entries(selector).every(([key, value]) => labels[key] === value)
  )
}
