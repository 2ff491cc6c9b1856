import type { Missing } from '../../core/content/manifest'
import { instantOf, type Artifact, type Instant, type RecoveryPoint } from '../../core/chain/chain'
import type { EngineContext } from '../context'

/** A point as the lifeline draws it. */
export interface LifelinePoint extends RecoveryPoint {
  run: string
  comment: string | null
  consistency: string
  missing: Missing[]
  verifiedAt: Date | null
  version: number
}

export interface LifelineData {
  members: string[]
  artifacts: Artifact[]
  points: LifelinePoint[]
}

/** Everything that a vessel's lifeline shows. Points that were kept before an overwriting hold a part only, and are not on it. */
export async function lifelineOf(engine: EngineContext, vesselId: string, since?: Date): Promise<LifelineData> {
  let query = engine.db.selectFrom('point').selectAll().where('vessel_id', '=', vesselId).where('kept_for', 'is', null).orderBy('at')
  if (since) query = query.where('at', '>=', since)
  const points = await query.execute()
  const links = await engine.db
    .selectFrom('point_artifact')
    .innerJoin('point', 'point.id', 'point_artifact.point_id')
    .select(['point_id', 'artifact_id'])
    .where('point.vessel_id', '=', vesselId)
    .where('point.kept_for', 'is', null)
    .execute()
  const byPoint = new Map<string, string[]>()
  for (const link of links) byPoint.set(link.point_id, [...(byPoint.get(link.point_id) ?? []), link.artifact_id])
  const wanted = new Set(points.flatMap((point) => byPoint.get(point.id) ?? []))
  const rows = await engine.db.selectFrom('artifact').selectAll().where('vessel_id', '=', vesselId).orderBy('at').execute()
  const artifacts = rows
    .filter((row) => wanted.has(row.id))
    .map((row): Artifact => ({
      id: row.id,
      member: row.member,
      kind: row.kind,
      parent: row.parent,
      at: row.at,
      to: row.position,
      rows: Number(row.rows),
      bytes: Number(row.bytes),
      stored: Number(row.stored),
    }))
  return {
    members: [...new Set(artifacts.map((artifact) => artifact.member))].sort(),
    artifacts,
    points: points.map((point) => ({
      id: point.id,
      at: point.at,
      name: point.name,
      comment: point.comment,
      pinned: point.pinned,
      complete: point.complete,
      artifacts: byPoint.get(point.id) ?? [],
      run: point.run_id,
      consistency: point.consistency,
      missing: point.missing,
      verifiedAt: point.verified_at,
      version: point.vessel_version,
    })),
  }
}

export function newestInstant(data: LifelineData, now: Date): Instant {
  return instantOf(data.members, data.artifacts, data.points, now)
}
