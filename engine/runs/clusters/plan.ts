import type { ClusterState } from '../../../core/cluster/target'
import type { NamespacePlan, PlannedObject } from '../../../core/cluster/operations'
import { planNamespace, type PlanInput } from '../../../core/cluster/plan'
import { pickedOf } from '../../../core/content/files'
import type { NamespaceManifest } from '../../../core/content/manifest'
import type { Wish } from '../../../core/restore/wish'
import { isWithin, pathOf, withinAny } from '../../../core/things/thing'
import { clusterAccessOf } from '../../catalog/sources'
import type { EngineContext } from '../../context'
import { entriesOf, objectsOf } from '../../look/cluster'
import type { OpenPoint } from '../../points/open'
import type { ClusterAccess } from '../../sources/kubernetes/access'
import { ClusterClient } from '../../sources/kubernetes/client'
import { inspectCluster } from '../../sources/kubernetes/target'

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
      planned.push({ access, manifest: namespace, plan, objects: mapped, target, wish })
    }
  }
  return planned
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
  const own = withinAny(picks)
  if (picks.some((pick) => isWithin(pick, root) || isWithin(root, pick))) return true
  return objects.some(({ path }) => own(path)) || volumes.some(({ path }) => own(path) || cluster.files[path] !== undefined)
}
