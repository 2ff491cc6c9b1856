// What the stand-in serves: the resource types of the groups that applications are made of, and those that custom
// resource definitions add while it runs.

export interface ResourceType {
  group: string
  version: string
  kind: string
  plural: string
  namespaced: boolean
  short: string[]
  subresources: string[]
  /** Custom ones take any fields and come with a definition. */
  custom: boolean
  /** Asked and answered at once, never kept: access reviews. */
  transient: boolean
}

export interface KubeObject {
  apiVersion: string
  kind: string
  metadata: Metadata
  spec?: Record<string, any> // The stand-in keeps what it is given; only controllers look into it.
  status?: Record<string, any>
  data?: Record<string, string>
  [field: string]: unknown
}

export interface Metadata {
  name: string
  namespace?: string
  uid: string
  resourceVersion: string
  generation?: number
  generateName?: string
  creationTimestamp: string
  deletionTimestamp?: string
  deletionGracePeriodSeconds?: number
  labels?: Record<string, string>
  annotations?: Record<string, string>
  finalizers?: string[]
  ownerReferences?: OwnerReference[]
  managedFields?: unknown[]
}

export interface OwnerReference {
  apiVersion: string
  kind: string
  name: string
  uid: string
  controller?: boolean
  blockOwnerDeletion?: boolean
}

type Row = [kind: string, plural: string, scope: 'ns' | 'cluster', short?: string, subresources?: string]

const GROUPS: [group: string, version: string, rows: Row[]][] = [
  [
    '',
    'v1',
    [
      ['Namespace', 'namespaces', 'cluster', 'ns', 'status finalize'],
      ['Node', 'nodes', 'cluster', 'no', 'status'],
      ['PersistentVolume', 'persistentvolumes', 'cluster', 'pv', 'status'],
      ['Pod', 'pods', 'ns', 'po', 'status log exec'],
      ['Service', 'services', 'ns', 'svc', 'status'],
      ['ConfigMap', 'configmaps', 'ns', 'cm'],
      ['Secret', 'secrets', 'ns'],
      ['ServiceAccount', 'serviceaccounts', 'ns', 'sa'],
      ['PersistentVolumeClaim', 'persistentvolumeclaims', 'ns', 'pvc', 'status'],
      ['Endpoints', 'endpoints', 'ns', 'ep'],
      ['Event', 'events', 'ns', 'ev'],
      ['ResourceQuota', 'resourcequotas', 'ns', 'quota', 'status'],
      ['LimitRange', 'limitranges', 'ns', 'limits'],
    ],
  ],
  [
    'apps',
    'v1',
    [
      ['Deployment', 'deployments', 'ns', 'deploy', 'status scale'],
      ['StatefulSet', 'statefulsets', 'ns', 'sts', 'status scale'],
      ['DaemonSet', 'daemonsets', 'ns', 'ds', 'status'],
      ['ReplicaSet', 'replicasets', 'ns', 'rs', 'status scale'],
    ],
  ],
  [
    'batch',
    'v1',
    [
      ['Job', 'jobs', 'ns', '', 'status'],
      ['CronJob', 'cronjobs', 'ns', 'cj', 'status'],
    ],
  ],
  [
    'networking.k8s.io',
    'v1',
    [
      ['Ingress', 'ingresses', 'ns', 'ing', 'status'],
      ['NetworkPolicy', 'networkpolicies', 'ns', 'netpol'],
      ['IngressClass', 'ingressclasses', 'cluster'],
    ],
  ],
  ['policy', 'v1', [['PodDisruptionBudget', 'poddisruptionbudgets', 'ns', 'pdb', 'status']]],
  ['autoscaling', 'v2', [['HorizontalPodAutoscaler', 'horizontalpodautoscalers', 'ns', 'hpa', 'status']]],
  [
    'rbac.authorization.k8s.io',
    'v1',
    [
      ['Role', 'roles', 'ns'],
      ['RoleBinding', 'rolebindings', 'ns'],
      ['ClusterRole', 'clusterroles', 'cluster'],
      ['ClusterRoleBinding', 'clusterrolebindings', 'cluster'],
    ],
  ],
  ['storage.k8s.io', 'v1', [['StorageClass', 'storageclasses', 'cluster', 'sc']]],
  [
    'snapshot.storage.k8s.io',
    'v1',
    [
      ['VolumeSnapshot', 'volumesnapshots', 'ns', 'vs', 'status'],
      ['VolumeSnapshotContent', 'volumesnapshotcontents', 'cluster', 'vsc', 'status'],
      ['VolumeSnapshotClass', 'volumesnapshotclasses', 'cluster'],
    ],
  ],
  ['apiextensions.k8s.io', 'v1', [['CustomResourceDefinition', 'customresourcedefinitions', 'cluster', 'crd', 'status']]],
  ['authorization.k8s.io', 'v1', [['SelfSubjectAccessReview', 'selfsubjectaccessreviews', 'cluster']]],
  ['authentication.k8s.io', 'v1', [['SelfSubjectReview', 'selfsubjectreviews', 'cluster']]],
]

const TRANSIENT = new Set(['selfsubjectaccessreviews', 'selfsubjectreviews'])
const words = (text = '') => text.split(' ').filter(Boolean)

/** The types that are built in, without the groups that this cluster does not have. */
export function builtIn(without: string[]): ResourceType[] {
  return GROUPS.filter(([group]) => !without.includes(group)).flatMap(([group, version, rows]) =>
    rows.map(([kind, plural, scope, short, subresources]) => ({
      group,
      version,
      kind,
      plural,
      namespaced: scope === 'ns',
      short: words(short),
      subresources: words(subresources),
      custom: false,
      transient: TRANSIENT.has(plural),
    })),
  )
}

/** The types that a custom resource definition adds, one for each version that it serves. */
export function customTypes(definition: KubeObject): ResourceType[] {
  const spec = definition.spec ?? {}
  return (spec.versions as { name: string; served: boolean; subresources?: Record<string, unknown> }[])
    .filter(({ served }) => served)
    .map(({ name, subresources }) => ({
      group: spec.group,
      version: name,
      kind: spec.names.kind,
      plural: spec.names.plural,
      namespaced: spec.scope === 'Namespaced',
      short: spec.names.shortNames ?? [],
      subresources: Object.keys(subresources ?? {}),
      custom: true,
      transient: false,
    }))
}

export const apiVersionOf = ({ group, version }: Pick<ResourceType, 'group' | 'version'>) =>
  group === '' ? version : `${group}/${version}`
/** Objects are kept by group and plural name; all versions of a type show the same ones. */
export const tableOf = ({ group, plural }: Pick<ResourceType, 'group' | 'plural'>) => `${group}/${plural}`
export const keyOf = (namespace: string | undefined, name: string) => `${namespace ?? ''}/${name}`
