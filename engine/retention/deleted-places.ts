import { randomUUID } from 'node:crypto'
import type { CatalogDb } from '../catalog/connect'

/** A source or a store that was deleted, by whom and why. */
export interface DeletedPlace {
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
export async function writeDeleted(tx: CatalogDb, place: Omit<DeletedPlace, 'id'>): Promise<void> {
  await tx
    .insertInto('deleted_place')
    .values({ id: randomUUID(), ...place, why: place.why.trim() })
    .execute()
}
