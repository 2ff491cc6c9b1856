import { Named } from '../../../../core/asked'
import { renameVessel } from '../../../../engine/catalog/vessels'

export default route(async (engine, event) => {
  const { name } = await bodyOf(event, Named)
  await renameVessel(engine, slugOf(event), name)
  return null
})
