import { DeleteForm } from '../../../../core/asked'
import { deleteVessel } from '../../../../engine/retention/vessel-deletion'

/** Deletes a vessel; its points stay for their terms. It can't be taken back. */
export default route(async (engine, event) => {
  const { reason } = await bodyOf(event, DeleteForm)
  await deleteVessel(engine, slugOf(event), { reason, by: PERSON })
  return null
})
