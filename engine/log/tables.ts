import type { DatabaseManifest } from '../../core/content/manifest'
import { openStore } from '../catalog/stores'
import type { Vessel } from '../catalog/vessels'
import type { EngineContext } from '../context'
import { readJson } from '../store/json'

/** Tables whose changes are in the log of a vessel, with their columns, for those who search in it. */
export async function loggedTables(engine: EngineContext, vessel: Vessel): Promise<{ name: string; columns: string[]; key: string[] }[]> {
  const rows = await engine.db.selectFrom('follower').select('structure_names').where('vessel_id', '=', vessel.id).execute()
  const store = await openStore(engine, { name: vessel.definition.store })
  const found = await Promise.all(
    rows.flatMap(({ structure_names: names }) => (names ? [readJson<DatabaseManifest>(store, names.chunks)] : [])),
  )
  return found
    .flatMap(({ tables }) => tables.filter(({ structure }) => structure.kind === 'table'))
    .map(({ schema, name, columns, key }) => ({ name: `${schema}.${name}`, columns, key: key ?? [] }))
    .sort((a, b) => (a.name < b.name ? -1 : 1))
}
