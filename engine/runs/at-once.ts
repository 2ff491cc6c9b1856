import { sql } from 'kysely'
import type { CatalogDb } from '../catalog/connect'
import { storeOfRun } from '../catalog/runs'

// Only so many runs work at a source, or with a store, at once.

/** Sources and stores with which a run works, and with which only so many may work at once. */
export const limitedPlaces = (id: string) => sql`
  select 'source' as kind, source.name, source.at_once from run join source on source.name = any(run.sources)
  where run.id = ${id} and source.at_once is not null
  union all select 'store', store.name, store.at_once from run join store on store.name = ${storeOfRun('run')}
  where run.id = ${id} and store.at_once is not null`

/** Those of them with which as many work as may. Whoever brings something back waits for none of them. */
export const fullPlaces = (id: string) => sql`
  select place.name, place.at_once from (${limitedPlaces(id)}) place, run own
  where own.id = ${id} and own.kind not in ('restore', 'undo') and place.at_once <= (
    select count(*) from run other where other.state = 'running' and other.id <> ${id}
    and (place.kind = 'source' and place.name = any(other.sources) or place.kind = 'store' and place.name = ${storeOfRun('other')}))`

/** Why a run can't begin yet, where as many work at a place as may; null where that is not it. */
export async function whyFull(db: CatalogDb, id: string): Promise<string | null> {
  const { rows } = await sql<{ name: string; at_once: number }>`${fullPlaces(id)} limit 1`.execute(db)
  const [full] = rows
  return full ? `As many runs work with ${full.name} as may at once (${full.at_once}); it begins when one of them is over.` : null
}
