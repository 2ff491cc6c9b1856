import { DeleteForm } from '../../../../core/asked'
import { deleteSource } from '../../../../engine/retention/source-deletion'

/** Forgets a source; points that were taken from it stay. It can't be taken back. */
export default route(async (engine, event) => {
  const { reason } = await bodyOf(event, DeleteForm)
  await deleteSource(engine, idOf(event), { reason, by: PERSON })
  return null
})
