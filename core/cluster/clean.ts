/** An object as an API of a cluster tells it. */
export interface ClusterObject {
  apiVersion?: string
  kind?: string
  metadata: {
    name: string
    namespace?: string
    labels?: Record<string, string>
    annotations?: Record<string, string>
    [field: string]: unknown
  }
  spec?: Record<string, unknown>
  [field: string]: unknown
}

/** What the API writes into every object by itself, and would not take back. */
const METADATA = [
  'uid',
  'resourceVersion',
  'generation',
  'creationTimestamp',
  'deletionTimestamp',
  'deletionGracePeriodSeconds',
  'managedFields',
  'selfLink',
]

/** Annotations by which controllers remember what they did. */
const ANNOTATIONS = [
  /^pv\.kubernetes\.io\//,
  /^volume\.(beta\.)?kubernetes\.io\//,
  /^deployment\.kubernetes\.io\/revision$/,
  /^control-plane\.alpha\.kubernetes\.io\//,
  /^kubectl\.kubernetes\.io\/last-applied-configuration$/,
]
const FINALIZERS = ['kubernetes.io/pvc-protection', 'kubernetes.io/pv-protection', 'foregroundDeletion', 'orphan']

type Fields = Record<string, unknown>
const without = (object: Fields, ...fields: string[]): Fields =>
  Object.fromEntries(Object.entries(object).filter(([field]) => !fields.includes(field)))

/** What controllers fill in, by kind. */
const BY_KIND: Record<string, (spec: Fields, object: ClusterObject) => Fields> = {
  // A service without an address of its own asks for that; any other is given one.
  Service: (spec) => {
    const headless = spec.clusterIP === 'None'
    return without(
      spec,
      'healthCheckNodePort',
      'ipFamilies',
      'ipFamilyPolicy',
      'internalTrafficPolicy',
      ...(headless ? [] : ['clusterIP', 'clusterIPs']),
    )
  },
  PersistentVolumeClaim: (spec) => without(spec, 'volumeName'),
  Pod: (spec) => ({
    ...without(spec, 'nodeName', 'priority', 'preemptionPolicy', 'enableServiceLinks'),
    // The token of its account is mounted into every pod anew.
    volumes: ((spec.volumes as Fields[] | undefined) ?? []).filter(({ name }) => !String(name).startsWith('kube-api-access-')),
  }),
  Namespace: (spec) => without(spec, 'finalizers'),
  Job: (spec, { metadata }) => {
    const template = structuredClone(spec.template) as { metadata?: { labels?: Record<string, string> } } | undefined
    for (const labels of [metadata.labels, template?.metadata?.labels])
      for (const name of Object.keys(labels ?? {})) if (/(^|\/)(controller-uid|job-name)$/.test(name)) delete labels![name]
    // Its selector is made from an id that it will not have again, unless the person chose one.
    return { ...(spec.manualSelector ? spec : without(spec, 'selector')), ...(template ? { template } : {}) }
  },
}

/** An object without what a cluster writes itself: what a person, or the application, put there. Nothing is changed in place. */
export function cleaned(object: ClusterObject): ClusterObject {
  const copy = structuredClone(object)
  delete copy.status
  const metadata = without(copy.metadata, ...METADATA) as ClusterObject['metadata']
  copy.metadata = metadata
  if (metadata.annotations) {
    metadata.annotations = Object.fromEntries(
      Object.entries(metadata.annotations).filter(([name]) => !ANNOTATIONS.some((pattern) => pattern.test(name))),
    )
    if (Object.keys(metadata.annotations).length === 0) delete metadata.annotations
  }
  if (Array.isArray(metadata.finalizers)) {
    metadata.finalizers = metadata.finalizers.filter((finalizer) => !FINALIZERS.includes(String(finalizer)))
    if ((metadata.finalizers as unknown[]).length === 0) delete metadata.finalizers
  }
  const cleanSpec = BY_KIND[copy.kind ?? '']
  if (cleanSpec && copy.spec) copy.spec = cleanSpec(copy.spec, copy)
  if (copy.spec && Object.keys(copy.spec).length === 0) delete copy.spec
  return copy
}

/** The same object always as the same text: fields in order, nothing but what it holds. */
export function canonical(value: unknown): string {
  if (Array.isArray(value)) return `[${value.map(canonical).join(',')}]`
  if (typeof value !== 'object' || value === null) return JSON.stringify(value) ?? 'null'
  const fields = Object.entries(value)
    .filter(([, value]) => value !== undefined)
    .sort(([a], [b]) => (a < b ? -1 : 1))
  return `{${fields.map(([key, value]) => `${JSON.stringify(key)}:${canonical(value)}`).join(',')}}`
}
