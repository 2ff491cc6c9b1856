import { unpinPoint } from '../../../../engine/retention/pins'

export default route(async (engine, event) => {
  await unpinPoint(engine, idOf(event))
  return null
})
