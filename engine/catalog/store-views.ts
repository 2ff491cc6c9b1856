import { sql } from 'kysely'
import { errorRecord, type ErrorRecord } from '../../core/errors'
import type { EngineContext } from '../context'
import { FolderBackend } from '../store/folder'

export interface StoreView {
  id: string
  name: string
  path: string
  /** Bytes and counts of what lies in it. */
  bytes: number
  packs: number
  chunks: number
  /** Bytes of the chunks before they were compressed. */
  plain: number
  points: number
  vessels: { slug: string; name: string; points: number }[]
  space: { free: number; total: number } | null
  verifiedAt: Date | null
  createdAt: Date
  trouble: ErrorRecord | null
}

export async function storeViews(engine: EngineContext): Promise<StoreView[]> {
  const stores = await engine.db.selectFrom('store').selectAll().orderBy('name').execute()
  return Promise.all(
    stores.map(async ({ id, name, settings, verified_at, created_at, trouble }) => {
      const held = await engine.db
        .selectFrom('pack')
        .select([sql<number>`coalesce(sum(bytes), 0)::float8`.as('bytes'), sql<number>`count(*)::int`.as('packs')])
        .where('store_id', '=', id)
        .where('committed', '=', true)
        .executeTakeFirstOrThrow()
      const content = await engine.db
        .selectFrom('chunk')
        .select([sql<number>`coalesce(sum(plain_length), 0)::float8`.as('plain'), sql<number>`count(*)::int`.as('chunks')])
        .where('store_id', '=', id)
        .executeTakeFirstOrThrow()
      const vessels = await engine.db
        .selectFrom('point')
        .innerJoin('vessel', 'vessel.id', 'point.vessel_id')
        .select(['vessel.slug', 'vessel.name', sql<number>`count(*)::int`.as('points')])
        .where('point.store_id', '=', id)
        .groupBy(['vessel.slug', 'vessel.name'])
        .orderBy('vessel.name')
        .execute()
      const space = await new FolderBackend(settings.path).space().catch((error: unknown) => errorRecord(error))
      const gone = 'what' in space ? space : null
      return {
        id,
        name,
        path: settings.path,
        ...held,
        ...content,
        vessels,
        points: vessels.reduce((sum, vessel) => sum + vessel.points, 0),
        space: 'what' in space ? null : space,
        verifiedAt: verified_at,
        createdAt: created_at,
        trouble: trouble ?? gone,
      }
    }),
  )
}
