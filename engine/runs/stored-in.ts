import type { CatalogDb } from '../catalog/connect'
import type { Catalog } from '../catalog/types'

/** A member of a point, or a segment of log, with the names of its manifest. */
export type StoredIn = Pick<Catalog['artifact'], 'id' | 'kind' | 'member' | 'parent'> & { manifest: string[] }

/** All that lies in a store; those that lead to others come first. */
export async function artifactsIn(db: CatalogDb, storeId: string): Promise<StoredIn[]> {
  const rows = await db
    .selectFrom('artifact')
    .leftJoin('point_artifact', 'point_artifact.artifact_id', 'artifact.id')
    .leftJoin('point', 'point.id', 'point_artifact.point_id')
    .select(['artifact.id', 'artifact.kind', 'artifact.member', 'artifact.parent', 'artifact.manifest'])
    .where((eb) => eb.or([eb('artifact.store_id', '=', storeId), eb('point.store_id', '=', storeId)]))
    .orderBy('artifact.at')
    .execute()
  return [...new Map(rows.map((row) => [row.id, row])).values()]
}
