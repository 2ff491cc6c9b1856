import { savedRestores } from '../../../../engine/catalog/saved-restores'
import { scratchCopies } from '../../../../engine/catalog/scratch-views'
import { vesselBySlug } from '../../../../engine/catalog/vessels'

/** Saved restores of a vessel, and its scratch copies. */
export default route(async (engine, event) => {
  const { id } = await vesselBySlug(engine, slugOf(event))
  const [saved, scratch] = await Promise.all([savedRestores(engine, id), scratchCopies(engine, id)])
  return { saved, scratch }
})
