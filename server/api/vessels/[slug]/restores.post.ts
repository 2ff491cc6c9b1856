import { saveRestore } from '../../../../engine/catalog/saved-restores'
import { vesselBySlug } from '../../../../engine/catalog/vessels'

export default route(async (engine, event) => {
  const { name, wish, reason, begins } = await bodyOf(event, SaveRestore)
  return created(event, { id: await saveRestore(engine, await vesselBySlug(engine, slugOf(event)), name, wish, reason, begins) })
})
