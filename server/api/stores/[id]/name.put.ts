import { Named } from '../../../../core/asked'
import { renameStore } from '../../../../engine/catalog/store-changes'

export default route(async (engine, event) => {
  const { name } = await bodyOf(event, Named)
  await renameStore(engine, idOf(event), name)
  return null
})
