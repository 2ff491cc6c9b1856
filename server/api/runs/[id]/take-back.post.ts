import { Reason } from '../../../../core/asked'
import { runDetail } from '../../../../engine/catalog/run-views'
import { vesselBySlug } from '../../../../engine/catalog/vessels'
import { takeBack } from '../../../../engine/runs/take-back'

/** Takes a restore back: what it overwrote goes to where it stood. */
export default route(async (engine, event) => {
  const { reason } = await bodyOf(event, Reason)
  const { id: of, slug } = await runDetail(engine, idOf(event))
  const params = await takeBack(engine, of)
  const comment = reason?.trim() || params.reason
  const vessel = await vesselBySlug(engine, slug)
  const id = await engine.startRun({
    kind: 'restore',
    vessel,
    startedBy: PERSON,
    comment,
    params: { ...params, reason: comment, takesBack: of },
  })
  return created(event, { id })
})
