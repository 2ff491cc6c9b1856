import { requestCancel } from '../../../../engine/catalog/runs'

export default route(async (engine, event) => {
  await requestCancel(engine, idOf(event))
  return {}
})
