import { sql } from 'kysely'
import { errorRecord, type ErrorRecord } from '../../core/errors'
import type { EngineContext } from '../context'
import type { Price } from '../../core/plan/simulate'
import type { PruneTimes } from './retention-types'
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
  /** What lies in it now, by when it was written: bytes up to and with each stretch of time, the oldest first. */
  grown: { until: Date; bytes: number }[]
  space: { free: number; total: number } | null
  verifiedAt: Date | null
  prunedAt: Date | null
  /** At which time of each day it is pruned by itself; null: only when somebody says so. */
  prune: PruneTimes | null
  /** What it costs, in a currency that nobody names; null where nobody said. */
  price: Price | null
  /** How many runs may work with it at once; null: as many as there are. */
  atOnce: number | null
  createdAt: Date
  trouble: ErrorRecord | null
}

export async function storeViews(engine: EngineContext): Promise<StoreView[]> {
  const stores = await engine.db.selectFrom('store').selectAll().orderBy('name').execute()
  return Promise.all(
    stores.map(async ({ id, name, settings, verified_at, created_at, trouble, pruned_at, prune, price, at_once: atOnce }) => {
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
      const grown = await grownOver(engine, id)
      const space = await new FolderBackend(settings.path).space().catch((error: unknown) => errorRecord(error))
      const gone = 'what' in space ? space : null
      return {
        id,
        name,
        path: settings.path,
        ...held,
        ...content,
        vessels,
        grown,
        points: vessels.reduce((sum, vessel) => sum + vessel.points, 0),
        space: 'what' in space ? null : space,
        verifiedAt: verified_at,
        prunedAt: pruned_at,
        prune,
        price,
        atOnce,
        createdAt: created_at,
        trouble: trouble ?? gone,
      }
    }),
  )
}

/** How many stretches the time since the first file of a store is cut into. */
const STRETCHES = 60

async function grownOver(engine: EngineContext, store: string): Promise<StoreView['grown']> {
  const { rows } = await sql<{ until: Date; bytes: number }>`
    with written as (select created_at at, bytes from pack where store_id = ${store} and committed),
      span as (select min(at) first, greatest(${engine.clock.now()}::timestamptz - min(at), interval '1 second') / ${STRETCHES}::int step from written),
      stretch as (
        select least(ceil(extract(epoch from at - first) / extract(epoch from step)), ${STRETCHES}::int)::int number, sum(bytes) bytes
        from written, span group by 1)
    select first + step * number until, (sum(coalesce(bytes, 0)) over (order by number))::float8 bytes
    from span, generate_series(0, ${STRETCHES}::int) number left join stretch using (number)
    where first is not null order by number`.execute(engine.db)
  return rows
}
