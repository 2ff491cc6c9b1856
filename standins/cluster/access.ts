import type { Objects } from './objects'
import type { KubeObject } from './resources'

export interface User {
  name: string
  groups: string[]
  /** Until when the token is good, in milliseconds since 1970. */
  until: number
}

export interface Wanted {
  verb: string
  group: string
  resource: string
  namespace: string | undefined
  name: string | undefined
}

interface PolicyRule {
  verbs: string[]
  apiGroups?: string[]
  resources?: string[]
  resourceNames?: string[]
}

const RBAC = 'rbac.authorization.k8s.io'
const covers = (list: string[] | undefined, value: string) => Boolean(list?.some((item) => item === '*' || item === value))

function allows({ verbs, apiGroups, resources, resourceNames }: PolicyRule, { verb, group, resource, name }: Wanted): boolean {
  return (
    covers(verbs, verb) &&
    covers(apiGroups, group) &&
    (covers(resources, resource) || covers(resources, resource.replace(/^[^/]+/, '*'))) &&
    (!resourceNames?.length || (name !== undefined && resourceNames.includes(name)))
  )
}

interface Binding extends KubeObject {
  roleRef: { kind: string; name: string }
  subjects?: { kind: string; name: string; namespace?: string }[]
}

const isFor = ({ subjects }: Binding, { name, groups }: User) =>
  (subjects ?? []).some((subject) =>
    subject.kind === 'Group'
      ? groups.includes(subject.name)
      : name === (subject.kind === 'ServiceAccount' ? `system:serviceaccount:${subject.namespace}:${subject.name}` : subject.name),
  )

/** Whether the roles that are bound to somebody let him do something. */
export function mayDo(objects: Objects, user: User, wanted: Wanted): boolean {
  if (user.groups.includes('system:masters')) return true
  const bindings = [
    ...objects.list({ group: RBAC, plural: 'clusterrolebindings' }),
    ...(wanted.namespace ? objects.list({ group: RBAC, plural: 'rolebindings' }, wanted.namespace) : []),
  ] as Binding[]
  return bindings
    .filter((binding) => isFor(binding, user))
    .some(({ roleRef, metadata }) => {
      const plural = roleRef.kind === 'Role' ? 'roles' : 'clusterroles'
      const role = objects.find({ group: RBAC, plural }, roleRef.kind === 'Role' ? metadata.namespace : undefined, roleRef.name)
      return ((role?.rules ?? []) as PolicyRule[]).some((rule) => allows(rule, wanted))
    })
}
