import { forgetRestore } from '../../../../engine/catalog/saved-restores'

export default route(async (engine, event) => {
  await forgetRestore(engine, idOf(event))
  return {}
})
