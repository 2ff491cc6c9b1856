import { wishOf } from '../../../core/restore/wish'
import { keptChoice } from '../../../engine/catalog/choices'

/** What was chosen on a workbench. */
export default route(async (engine, event) => {
  const { wish } = await keptChoice(engine, choiceNameOf(event), 'restore')
  return wishOf(wish)
})
