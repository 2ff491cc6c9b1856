import { stringify } from 'yaml'
import type { Right } from '../../../core/cluster/rights'
import { ApiFailure, type ApiResource, type ClusterClient } from './client'

/** Whether each of some rights is there, everywhere in the cluster where no namespace is said. */
export async function rightsOf(client: ClusterClient, rights: Right[]): Promise<boolean[]> {
  return Promise.all(
    rights.map(async ({ verb, group, resource, namespace }) => {
      const [plural, subresource] = resource.split('/')
      const review = await client.ask<{ status?: { allowed?: boolean } }>('/apis/authorization.k8s.io/v1/selfsubjectaccessreviews', {
        method: 'POST',
        body: {
          apiVersion: 'authorization.k8s.io/v1',
          kind: 'SelfSubjectAccessReview',
          spec: { resourceAttributes: { verb, group, namespace, resource: plural, ...(subresource ? { subresource } : {}) } },
        },
      })
      return review.status?.allowed === true
    }),
  )
}

/** Who the token or certificate stands for; null when the cluster does not tell. */
export async function whoami(client: ClusterClient, resources: ApiResource[]): Promise<string | null> {
  if (!resources.some(({ plural }) => plural === 'selfsubjectreviews')) return null
  try {
    const review = await client.ask<{ status?: { userInfo?: { username?: string } } }>(
      '/apis/authentication.k8s.io/v1/selfsubjectreviews',
      {
        method: 'POST',
        body: { apiVersion: 'authentication.k8s.io/v1', kind: 'SelfSubjectReview' },
      },
    )
    return review.status?.userInfo?.username ?? null
  } catch (error) {
    if (error instanceof ApiFailure) return null
    throw error
  }
}

function subjectOf(user: string) {
  const account = /^system:serviceaccount:([^:]+):(.+)$/.exec(user)
  return account
    ? { kind: 'ServiceAccount', namespace: account[1], name: account[2] }
    : { kind: 'User', apiGroup: 'rbac.authorization.k8s.io', name: user }
}

/** A role with some rights and its binding, ready for `kubectl apply -f -`. */
export function roleManifest(id: string, rights: Right[], user: string): string {
  const name = `unbroken-vessel-${id}`
  const rules = new Map<string, { apiGroups: string[]; resources: string[]; verbs: string[] }>()
  for (const { verb, group, resource } of rights) {
    const rule = rules.get(`${group} ${resource}`) ?? { apiGroups: [group], resources: [resource], verbs: [] }
    rule.verbs.push(verb)
    rules.set(`${group} ${resource}`, rule)
  }
  // One rule for everything that the same verbs are wanted of in one group.
  const joined = new Map<string, { apiGroups: string[]; resources: string[]; verbs: string[] }>()
  for (const rule of rules.values()) {
    const key = `${rule.apiGroups[0]} ${rule.verbs.join()}`
    const same = joined.get(key)
    if (same) same.resources.push(...rule.resources)
    else joined.set(key, rule)
  }
  const api = 'rbac.authorization.k8s.io'
  return [
    { apiVersion: `${api}/v1`, kind: 'ClusterRole', metadata: { name }, rules: [...joined.values()] },
    {
      apiVersion: `${api}/v1`,
      kind: 'ClusterRoleBinding',
      metadata: { name },
      roleRef: { apiGroup: api, kind: 'ClusterRole', name },
      subjects: [subjectOf(user)],
    },
  ]
    .map((object) => stringify(object))
    .join('---\n')
}
