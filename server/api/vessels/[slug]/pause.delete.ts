import { resumeVessel } from '../../../../engine/catalog/pauses'

/** Lets a paused vessel go on. */
export default route(async (engine, event) => {
  await resumeVessel(engine, slugOf(event))
  return null
})
