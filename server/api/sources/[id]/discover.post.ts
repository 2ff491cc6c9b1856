import { discoverSource } from '../../../../engine/catalog/sources'

export default route(async (engine, event) => {
  await discoverSource(engine, idOf(event))
  return {}
})
