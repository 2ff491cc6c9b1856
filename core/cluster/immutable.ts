import { canonical, type ClusterObject } from './clean'

type Fields = Record<string, unknown>
/** A field that an object has itself: data may be called `constructor` or `valueOf`, too. */
const fieldOf = (value: object, field: string): unknown => (Object.hasOwn(value, field) ? (value as Fields)[field] : undefined)
const at = (object: ClusterObject, path: string): unknown =>
  path.split('.').reduce<unknown>((value, field) => (value === undefined || value === null ? undefined : fieldOf(value, field)), object)

/** Fields that the API lets nobody change, by kind: those of its documentation. */
const FIXED: Record<string, string[]> = {
  Deployment: ['spec.selector'],
  DaemonSet: ['spec.selector'],
  ReplicaSet: ['spec.selector'],
  StatefulSet: ['spec.selector', 'spec.serviceName', 'spec.podManagementPolicy', 'spec.volumeClaimTemplates'],
  Job: ['spec.template', 'spec.completionMode'],
  RoleBinding: ['roleRef'],
  ClusterRoleBinding: ['roleRef'],
  StorageClass: ['provisioner', 'parameters', 'reclaimPolicy', 'volumeBindingMode'],
  PersistentVolumeClaim: ['spec.storageClassName', 'spec.accessModes', 'spec.volumeMode'],
  Secret: ['type'],
  PriorityClass: ['value'],
  IngressClass: ['spec.controller'],
}

/**
 * Fields that stand in the way of changing `now` into `wanted`; it must be made anew then. What `wanted` does not say
 * is not compared, because the API fills it in.
 */
export function fixedFields(wanted: ClusterObject, now: ClusterObject): string[] {
  const sealed = now.immutable === true && (now.kind === 'ConfigMap' || now.kind === 'Secret') ? ['data', 'binaryData', 'immutable'] : []
  return [...(FIXED[wanted.kind ?? ''] ?? []), ...sealed].filter((path) => {
    const value = at(wanted, path)
    return value !== undefined && !holds(value, at(now, path))
  })
}

/** Whether everything that `wanted` says is so in `now`, which may say more. */
export function holds(wanted: unknown, now: unknown): boolean {
  if (Array.isArray(wanted)) return Array.isArray(now) && wanted.length === now.length && wanted.every((value, i) => holds(value, now[i]))
  // To the API a field that is null is one that is not there.
  if (typeof wanted !== 'object' || wanted === null) return (wanted ?? null) === (now ?? null)
  if (typeof now !== 'object' || now === null || Array.isArray(now)) return isEmpty(wanted) && now === undefined
  return Object.entries(wanted).every(([field, value]) => holds(value, fieldOf(now, field)))
}

/** The API leaves out what is empty. */
const isEmpty = (value: object) => Object.keys(value).length === 0

export interface FieldDifference {
  /** `spec.template.spec.containers[0].image` */
  field: string
  before: string | null
  now: string | null
}

const MOST_SHOWN = 400

/** Where two objects differ, field by field, in the order of the first; a null side has no such field. */
export function differences(earlier: unknown, now: unknown, path = ''): FieldDifference[] {
  if (canonical(earlier) === canonical(now)) return []
  const isHolder = (value: unknown): value is Fields | unknown[] => typeof value === 'object' && value !== null
  if (!isHolder(earlier) || !isHolder(now) || Array.isArray(earlier) !== Array.isArray(now))
    return [{ field: path, before: shown(earlier), now: shown(now) }]
  if (Array.isArray(earlier) && Array.isArray(now))
    return Array.from({ length: Math.max(earlier.length, now.length) }, (_, i) =>
      // In a list, unlike in an object, null is not what is left out.
      i < earlier.length && i < now.length
        ? differences(earlier[i], now[i], `${path}[${i}]`)
        : [{ field: `${path}[${i}]`, before: shown(earlier[i]), now: shown(now[i]) }],
    ).flat()
  const fields = [...new Set([...Object.keys(earlier), ...Object.keys(now)])]
  return fields.flatMap((field) =>
    differences(
      fieldOf(earlier, field),
      fieldOf(now, field),
      path === '' ? field : /^[\w-]+$/.test(field) ? `${path}.${field}` : `${path}["${field}"]`,
    ),
  )
}

const shown = (value: unknown): string | null =>
  value === undefined ? null : (typeof value === 'string' ? value : JSON.stringify(value)).slice(0, MOST_SHOWN)
