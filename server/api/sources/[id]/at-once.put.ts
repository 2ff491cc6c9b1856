import { AtOnce } from '../../../../core/asked'
import { setSourceAtOnce } from '../../../../engine/catalog/sources'

export default route(async (engine, event) => {
  const { atOnce } = await bodyOf(event, AtOnce)
  await setSourceAtOnce(engine, idOf(event), atOnce)
  return null
})
