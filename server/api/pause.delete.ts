import { resumeWider } from '../../engine/catalog/pauses'

/** Lets everything go on that is not paused by itself. */
export default route(async (engine) => {
  await resumeWider(engine, null)
  return null
})
