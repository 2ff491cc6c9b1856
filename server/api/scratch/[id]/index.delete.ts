import { dropScratch } from '../../../../engine/runs/scratch'

export default route(async (engine, event) => {
  await dropScratch(engine, idOf(event))
  return {}
})
