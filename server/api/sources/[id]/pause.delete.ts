import { resumeWider } from '../../../../engine/catalog/pauses'

/** Lets go on what was paused with this source. */
export default route(async (engine, event) => {
  await resumeWider(engine, idOf(event))
  return null
})
