import { savedRestore } from '../../../../engine/catalog/saved-restores'

export default route(async (engine, event) => {
  const { id } = await savedRestore(engine, idOf(event))
  await engine.db.deleteFrom('saved_restore').where('id', '=', id).execute()
  return {}
})
