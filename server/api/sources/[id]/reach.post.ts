import { settingsOf, tryReach } from '../../../../engine/catalog/source-access'

/** Tests another way to reach a source, and saves nothing. */
export default route(async (engine, event) => {
  const id = idOf(event)
  return tryReach(engine, id, reachFrom(await bodyOf(event, ChangedAccess), await settingsOf(engine, id)))
})
