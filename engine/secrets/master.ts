import { sql } from 'kysely'
import type { CatalogDb } from '../catalog/connect'
import { Secrets, type KeyPlace } from './seal'

const CHECK = 'the check of the master key'

/**
 * The master key with which a catalog is sealed. A new one is made for a new catalog alone: with another key every
 * worker would take work whose credentials it can't open.
 *
 * @throws VesselError `master_key_missing` or `master_key_wrong` when the catalog was sealed with a key that is not there
 */
export async function openMasterKey(db: CatalogDb, place: KeyPlace): Promise<Secrets> {
  return db.transaction().execute(async (tx) => {
    // Two that begin with a new catalog at once would make two.
    await sql`select pg_advisory_xact_lock(hashtextextended('master key', 0))`.execute(tx)
    const known = await tx.selectFrom('master_key').select('sealed_check').executeTakeFirst()
    const sealed = await sealedBefore(tx)
    const secrets = await Secrets.open(place, { mayMake: !known && !sealed })
    if (known) secrets.open(known.sealed_check, CHECK)
    else {
      // A catalog from before there was a check has sealed things all the same.
      if (sealed) secrets.open(sealed.bytes, sealed.context)
      await tx
        .insertInto('master_key')
        .values({ sealed_check: secrets.seal('sealed', CHECK) })
        .execute()
    }
    return secrets
  })
}

/** Something that was sealed with the key of a catalog. */
async function sealedBefore(tx: CatalogDb): Promise<{ bytes: Buffer; context: string } | null> {
  const store = await tx.selectFrom('store').select(['id', 'sealed_key']).limit(1).executeTakeFirst()
  if (store) return { bytes: store.sealed_key, context: `store ${store.id}` }
  const source = await tx
    .selectFrom('source')
    .select(['id', 'sealed_secret'])
    .where('sealed_secret', 'is not', null)
    .limit(1)
    .executeTakeFirst()
  return source ? { bytes: source.sealed_secret!, context: `source ${source.id}` } : null
}
