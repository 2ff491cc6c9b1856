import { apiVersionOf, type ResourceType } from './resources'

// The documents by which a client finds out what a cluster serves.

const VERBS = ['create', 'delete', 'deletecollection', 'get', 'list', 'patch', 'update', 'watch']

export const coreVersions = { kind: 'APIVersions', versions: ['v1'], serverAddressByClientCIDRs: [] }

function groupOf(types: ResourceType[], group: string) {
  const versions = [...new Set(types.filter((type) => type.group === group).map(({ version }) => version))]
  const told = versions.map((version) => ({ groupVersion: `${group}/${version}`, version }))
  return { kind: 'APIGroup', apiVersion: 'v1', name: group, versions: told, preferredVersion: told[0] }
}

export function groupList(types: ResourceType[]) {
  const groups = [...new Set(types.map(({ group }) => group))].filter(Boolean)
  return { kind: 'APIGroupList', apiVersion: 'v1', groups: groups.map((group) => groupOf(types, group)) }
}

export function oneGroup(types: ResourceType[], group: string) {
  return types.some((type) => type.group === group) ? groupOf(types, group) : undefined
}

/** The resources of one version of a group, with their parts; undefined when there is none. */
export function resourceList(types: ResourceType[], group: string, version: string) {
  const ofVersion = types.filter((type) => type.group === group && type.version === version)
  if (ofVersion.length === 0) return undefined
  const resources = ofVersion.flatMap((type) => [
    {
      name: type.plural,
      singularName: type.kind.toLowerCase(),
      namespaced: type.namespaced,
      kind: type.kind,
      verbs: type.transient ? ['create'] : VERBS,
      ...(type.short.length > 0 ? { shortNames: type.short } : {}),
    },
    ...type.subresources.map((part) => ({
      name: `${type.plural}/${part}`,
      singularName: '',
      namespaced: type.namespaced,
      kind: part === 'scale' ? 'Scale' : type.kind,
      ...(part === 'scale' ? { group: 'autoscaling', version: 'v1' } : {}),
      verbs: part === 'exec' ? ['create', 'get'] : part === 'log' ? ['get'] : ['get', 'patch', 'update'],
    })),
  ])
  return { kind: 'APIResourceList', apiVersion: 'v1', groupVersion: apiVersionOf({ group, version }), resources }
}

/**
 * A description of the API without any schemas, which says that nothing is known to check an object by. Clients ask
 * for it in the encoding of protocol buffers: fields 1 (swagger), 2 (info: title, version) and 8 (paths).
 */
export function description(name: string): Buffer {
  const field = (number: number, content: Buffer | string) => {
    const bytes = Buffer.from(content)
    return Buffer.concat([Buffer.of((number << 3) | 2, bytes.length), bytes])
  }
  return Buffer.concat([field(1, '2.0'), field(2, Buffer.concat([field(1, name), field(2, 'v1')])), field(8, '')])
}
