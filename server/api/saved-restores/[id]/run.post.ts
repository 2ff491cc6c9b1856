import { newestPoint } from '../../../../engine/catalog/points'
import { savedRestore } from '../../../../engine/catalog/saved-restores'
import { vesselById } from '../../../../engine/catalog/vessels'
import { noRows, openPoint } from '../../../../engine/points/open'
import { planAll, requireReason } from '../../../../engine/runs/restore-plan'

/** Runs a saved restore on the newest point of its vessel. */
export default route(async (engine, event) => {
  const saved = await savedRestore(engine, idOf(event))
  const vessel = await vesselById(engine, saved.vessel_id)
  const { wish, reason, name } = saved
  const point = await newestPoint(engine, vessel)
  requireReason(await planAll(engine, await openPoint(engine, point, noRows), wish), reason)
  const params = { point, wish, reason, saved: saved.id }
  const id = await engine.startRun({ kind: 'restore', vessel, startedBy: PERSON, name, comment: reason, params })
  await engine.db.updateTable('saved_restore').set({ last_run_id: id }).where('id', '=', saved.id).execute()
  return created(event, { id })
})
