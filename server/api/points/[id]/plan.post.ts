import { noRows, openPoint } from '../../../../engine/points/open'
import { planWish } from '../../../../engine/runs/restore-plan'

/** The plan for a wish, against what stands at the target now. Changes nothing. */
export default route(async (engine, event) => {
  const wish = await bodyOf(event, WishSchema)
  const point = await openPoint(engine, pointOf(event), noRows)
  return (await planWish(engine, point, wish)).map(({ plan, access }) => ({ ...plan, source: access.name }))
})
