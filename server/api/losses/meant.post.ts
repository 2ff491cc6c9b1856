import { wasMeant } from '../../../engine/watch/losses'

/** Somebody says that a loss was meant. */
export default route(async (engine, event) => {
  const { key } = await bodyOf(event, Meant)
  await wasMeant(engine, key)
  return { key }
})
