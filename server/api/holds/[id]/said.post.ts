import { saidReleased } from '../../../../engine/holds/release'

/** A person has released it in another way. */
export default route(async (engine, event) => {
  await saidReleased(engine, idOf(event))
  return {}
})
