import { sql } from 'kysely'
import type { CatalogDb } from '../catalog/connect'

/** A source or a store that was deleted, by whom and why. */
export interface DeletedPlace {
  /** That it had. */
  id: string
  kind: 'source' | 'store'
  name: string
  at: Date
  by: string
  why: string
}

const SHOWN = 50

export const deletedPlaces = (db: CatalogDb): Promise<DeletedPlace[]> =>
  db.selectFrom('deleted_place').selectAll().orderBy('at', 'desc').limit(SHOWN).execute()

/** Within the transaction that deletes it. */
export async function writeDeleted(tx: CatalogDb, place: DeletedPlace): Promise<void> {
  await tx
    .insertInto('deleted_place')
    .values({ ...place, why: place.why.trim() })
    .execute()
}

/** Something that is to be known of it as well, such as what could not be done. */
export async function addToDeleted(db: CatalogDb, id: string, what: string): Promise<void> {
  await sql`update deleted_place set why = why || '. ' || ${what}::text where id = ${id}`.execute(db)
}
