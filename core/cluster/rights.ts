import type { NamespacePlan, PlannedObject } from './operations'
import { atRest } from './phases'
import type { ClusterState } from './target'

/** Something that has to be allowed, as roles name it; everywhere in the cluster where no namespace is said. */
export interface Right {
  verb: string
  group: string
  /** Its plural, with what belongs to it after a slash: `pods/exec`. */
  resource: string
  namespace?: string
}

/** What is done at the target with volumes: a pod has each of them, is written into, and goes. */
const OF_VOLUMES = [
  ['create', 'pods'],
  ['get', 'pods'],
  ['delete', 'pods'],
  ['create', 'pods/exec'],
] as const

/**
 * Every right that a plan needs at its target, each once. What defines new kinds comes first, so that of those nothing can
 * be asked yet; they are left out.
 */
export function rightsNeeded(
  plan: Pick<NamespacePlan, 'makes' | 'volumes' | 'into'>,
  planned: readonly PlannedObject[],
  served: ClusterState['served'],
): Right[] {
  const plurals = new Map(served.map(({ group, kind, plural }) => [`${group}/${kind}`, plural]))
  const rights = new Map<string, Right>()
  const need = (verb: string, group: string, resource: string, namespace: string | null) =>
    rights.set(`${verb} ${group} ${resource} ${namespace ?? ''}`, { verb, group, resource, ...(namespace === null ? {} : { namespace }) })
  if (plan.makes) need('create', '', 'namespaces', null)
  for (const { operation, object } of planned) {
    const resource = plurals.get(`${operation.group}/${operation.kind}`)
    if (operation.verb === 'leave' || resource === undefined) continue
    for (const verb of verbsOf(operation, atRest(object) !== null)) need(verb, operation.group, resource, operation.namespace)
  }
  if (plan.volumes.some(({ verb }) => verb !== 'leave')) for (const [verb, resource] of OF_VOLUMES) need(verb, '', resource, plan.into)
  return [...rights.values()]
}

/** What is asked of the API for one object: it is sent, set going if it was made at rest, and read back. */
function verbsOf({ verb, anew }: Pick<PlannedObject['operation'], 'verb' | 'anew'>, isStarted: boolean): string[] {
  const sent = verb === 'create' ? ['create'] : verb === 'merge' ? ['patch'] : anew.length > 0 ? ['delete', 'create'] : ['update']
  return [...sent, ...(isStarted ? ['patch'] : []), 'get']
}

/** Rights in words, those of one place and one kind together: `create and get deployments.apps in boarding`. */
export function rightsInWords(rights: readonly Right[]): string[] {
  const groups = new Map<string, string[]>()
  for (const { verb, group, resource, namespace } of rights) {
    const of = `${group ? `${resource}.${group}` : resource}${namespace === undefined ? '' : ` in ${namespace}`}`
    groups.set(of, [...(groups.get(of) ?? []), verb])
  }
  return [...groups].map(([of, verbs]) => `${verbs.length > 1 ? `${verbs.slice(0, -1).join(', ')} and ${verbs.at(-1)}` : verbs[0]} ${of}`)
}
