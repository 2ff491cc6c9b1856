import { AtOnce } from '../../../../core/asked'
import { setStoreAtOnce } from '../../../../engine/catalog/stores'

export default route(async (engine, event) => {
  const { atOnce } = await bodyOf(event, AtOnce)
  await setStoreAtOnce(engine, idOf(event), atOnce)
  return null
})
