import { VesselError } from '../../core/errors'
import type { DatabaseManifest, Manifest } from '../../core/content/manifest'
import { planRestore, type DatabasePlan, type TargetState, type Wish } from '../../core/restore/plan'
import { isWithin, pathOf } from '../../core/things/thing'
import { accessOf } from '../catalog/sources'
import { openStore } from '../catalog/stores'
import type { EngineContext } from '../context'
import type { PostgresAccess } from '../sources/postgres/connect'
import { inspectTarget } from '../sources/postgres/inspect'
import type { Store } from '../store/store'
import { readManifest } from './manifests'

export interface OpenPoint {
  id: string
  at: Date
  vesselId: string
  store: Store
  members: { member: string; manifest: Manifest }[]
}

/** Opens a point: its store, and the manifest of each member. */
export async function openPoint(engine: EngineContext, id: string): Promise<OpenPoint> {
  const point = await engine.db.selectFrom('point').selectAll().where('id', '=', id).executeTakeFirst()
  if (!point) {
    throw new VesselError('point_missing', {
      what: 'This recovery point does not exist any more.',
      touched: 'Nothing was changed.',
      next: 'Choose another one on the lifeline.',
      status: 404,
    })
  }
  const store = await openStore(engine, { id: point.store_id })
  const artifacts = await engine.db
    .selectFrom('artifact')
    .innerJoin('point_artifact', 'point_artifact.artifact_id', 'artifact.id')
    .select(['artifact.member', 'artifact.manifest'])
    .where('point_artifact.point_id', '=', id)
    .orderBy('artifact.member')
    .execute()
  const members = await Promise.all(
    artifacts.map(async ({ member, manifest }) => ({ member, manifest: await readManifest(store, manifest) })),
  )
  return { id, at: point.at, vesselId: point.vessel_id, store, members }
}

export interface PlannedDatabase {
  access: PostgresAccess
  manifest: DatabaseManifest
  target: TargetState
  plan: DatabasePlan
}

/** The plan for every database that the wish picks something from, against what stands there now. */
export async function planWish(engine: EngineContext, point: OpenPoint, wish: Wish): Promise<PlannedDatabase[]> {
  const planned: PlannedDatabase[] = []
  for (const { member, manifest } of point.members) {
    for (const database of manifest.databases) {
      const root = pathOf(member, database.name)
      if (!wish.picks.some((pick) => isWithin(pick, root) || isWithin(root, pick))) continue
      const access = await accessOf(engine, member)
      const withOthers = database.others.some((other) => wish.picks.some((pick) => isWithin(other.path, pick)))
      const target = await inspectTarget(access, database.name, withOthers && wish.into.mode === 'original')
      planned.push({
        access,
        manifest: database,
        target,
        plan: planRestore({ source: member, manifest: database, target, wish, at: point.at }),
      })
    }
  }
  if (planned.every(({ plan }) => plan.operations.length === 0)) {
    throw new VesselError('nothing_picked', {
      what: 'Nothing of this point is picked.',
      touched: 'Nothing was changed.',
      next: 'Tick what is to be brought back.',
    })
  }
  return planned
}

export function blockedBy(planned: PlannedDatabase[]): VesselError | null {
  const blockers = planned.flatMap(({ plan }) => plan.blockers)
  if (blockers.length === 0) return null
  const [first] = blockers
  const more = blockers.length > 1 ? ` And ${blockers.length - 1} more.` : ''
  return new VesselError(first!.code, { what: first!.what + more, touched: 'Nothing was changed.', next: first!.next, status: 409 })
}
