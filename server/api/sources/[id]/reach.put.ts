import { changeReach, settingsOf } from '../../../../engine/catalog/source-access'

/** Changes how a source is reached; all that is known of it stays. */
export default route(async (engine, event) => {
  const id = idOf(event)
  const { replaces, ...body } = await bodyOf(event, ChangedAccess)
  await changeReach(engine, id, reachFrom(body, await settingsOf(engine, id)), replaces)
  return {}
})
