import type { ClusterState } from '../../../core/cluster/target'
import type { NamespacePlan, PlannedObject } from '../../../core/cluster/operations'
import { planNamespace, type PlanInput } from '../../../core/cluster/plan'
import { rightsInWords } from '../../../core/cluster/rights'
import { pickedOf } from '../../../core/content/files'
import type { NamespaceManifest } from '../../../core/content/manifest'
import { errorRecord } from '../../../core/errors'
import type { Wish } from '../../../core/restore/wish'
import { isWithin, pathOf, withinAny } from '../../../core/things/thing'
import { clusterAccessOf } from '../../catalog/sources'
import type { EngineContext } from '../../context'
import { entriesOf, objectsOf } from '../../look/cluster'
import type { OpenPoint } from '../../points/open'
import type { ClusterAccess } from '../../sources/kubernetes/access'
import { ClusterClient } from '../../sources/kubernetes/client'
import { rightsOf } from '../../sources/kubernetes/rights'
import { inspectCluster } from '../../sources/kubernetes/target'

/** So many rights that are missing are told by name. */
const RIGHTS_SHOWN = 6

export interface PlannedNamespace {
  access: ClusterAccess & { id: string }
  manifest: NamespaceManifest
  plan: NamespacePlan
  objects: PlannedObject[]
  target: ClusterState
  wish: Wish
}

/** The plan for every namespace that the wish picks something from, against what stands at its cluster now. */
export async function planNamespaces(engine: EngineContext, point: OpenPoint, wish: Wish): Promise<PlannedNamespace[]> {
  const planned: PlannedNamespace[] = []
  const states = new Map<string, Promise<ClusterState>>()
  for (const { member, manifest } of point.members) {
    for (const namespace of manifest.namespaces ?? []) {
      if (!isPicked(pathOf(member, namespace.name), namespace, wish)) continue
      const access = await clusterAccessOf(engine, wish.cluster.source ?? member)
      const asking = states.get(access.name) ?? ClusterClient.with(access, inspectCluster)
      states.set(access.name, asking)
      const [objects, target, picked] = await Promise.all([objectsOf(point.store, namespace), asking, weighPicks(point, namespace, wish)])
      const { plan, objects: mapped } = planNamespace({ source: member, manifest: namespace, objects, target, asked: wish, picked })
      await askRights(access, plan)
      planned.push({ access, manifest: namespace, plan, objects: mapped, target, wish })
    }
  }
  return planned
}

/** Asks the cluster whether it would let the plan be done; what it would not is in the way. */
async function askRights(access: ClusterAccess, plan: NamespacePlan): Promise<void> {
  const has = await ClusterClient.with(access, (client) => rightsOf(client, plan.needs)).catch((error: unknown) => {
    plan.warnings.push(`Whether all of it is allowed could not be asked. ${errorRecord(error).what}`)
    return plan.needs.map(() => true)
  })
  const missing = rightsInWords(plan.needs.filter((_, i) => !has[i]))
  if (missing.length === 0) return
  plan.blockers.push({
    code: 'right_missing',
    what: `${access.settings.user} may not do this at ${access.name}: ${missing.slice(0, RIGHTS_SHOWN).join('; ')}${missing.length > RIGHTS_SHOWN ? ` and ${missing.length - RIGHTS_SHOWN} more` : ''}.`,
    next: 'Give it these rights by a role and its binding, or leave out what needs them.',
  })
}

/** Files and bytes of what is picked of volumes, where that is not all of one. */
async function weighPicks(point: OpenPoint, { volumes }: NamespaceManifest, { cluster }: Wish): Promise<NonNullable<PlanInput['picked']>> {
  const weighed: NonNullable<PlanInput['picked']> = {}
  for (const volume of volumes) {
    const only = cluster.files[volume.path]
    if (!only || volume.onlyAt !== undefined) continue
    const sum = { files: 0, bytes: 0 }
    for await (const { type, size } of pickedOf(entriesOf(point.store, volume), only)) {
      if (type !== 'file') continue
      sum.files++
      sum.bytes += size
    }
    weighed[volume.path] = sum
  }
  return weighed
}

function isPicked(root: string, { objects, volumes }: NamespaceManifest, { picks, cluster }: Wish): boolean {
  const isWanted = withinAny(picks)
  if (picks.some((pick) => isWithin(pick, root) || isWithin(root, pick))) return true
  return objects.some(({ path }) => isWanted(path)) || volumes.some(({ path }) => isWanted(path) || cluster.files[path] !== undefined)
}
