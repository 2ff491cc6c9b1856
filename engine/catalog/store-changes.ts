import { sql } from 'kysely'
import { VesselError } from '../../core/errors'
import { nameTrouble } from '../../core/things/name'
import type { EngineContext } from '../context'
import { notify } from '../notify'
import type { CatalogDb } from './connect'
import { storeOfRun } from './runs'
import { STORE_NAME_LENGTH, storeMissing } from './stores'

/** The row of a store, held against other changes until the transaction ends. @throws VesselError `store_missing` */
export async function lockStore(tx: CatalogDb, id: string): Promise<{ name: string; path: string }> {
  const row = await tx.selectFrom('store').select(['name', 'settings']).where('id', '=', id).forUpdate().executeTakeFirst()
  if (!row) throw storeMissing()
  return { name: row.name, path: row.settings.path }
}

/** What works with a store waits or goes on. */
export async function runInStore(tx: CatalogDb, name: string): Promise<string | null> {
  const { rows } = await sql<{ kind: string }>`select run.kind from run
    where run.state in ('waiting', 'running') and ${storeOfRun('run')} = ${name} limit 1`.execute(tx)
  return rows[0]?.kind ?? null
}

/**
 * Gives a store another name, in the definitions that name it as well.
 *
 * @throws VesselError `store_missing`, `store_name`, `store_exists`, `store_in_use`
 */
export async function renameStore(engine: EngineContext, id: string, wanted: string): Promise<void> {
  const name = wanted.trim()
  const trouble = nameTrouble(name, STORE_NAME_LENGTH)
  if (trouble) throw new VesselError('store_name', { what: trouble, touched: 'Nothing was changed.', next: 'Give it another name.' })
  await engine.db.transaction().execute(async (tx) => {
    const store = await lockStore(tx, id)
    if (store.name === name) return
    const refuse = (code: string, what: string, next: string) =>
      new VesselError(code, { what, touched: 'Nothing was changed.', next, status: 409 })
    const same = await tx.selectFrom('store').select('id').where('name', '=', name).executeTakeFirst()
    if (same) throw refuse('store_exists', `There is a store called ${name} already.`, 'Choose another name.')
    const running = await runInStore(tx, store.name)
    if (running) throw refuse('store_in_use', `A ${running} that works with ${store.name} waits or goes on.`, 'Wait until that is over.')
    await tx.updateTable('store').set({ name }).where('id', '=', id).execute()
    await sql`update vessel_version set definition = jsonb_set(definition, '{store}', to_jsonb(${name}::text))
      where definition->>'store' = ${store.name}`.execute(tx)
  })
  await notify(engine.db, { about: 'store' })
}
