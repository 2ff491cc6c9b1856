import { VesselError } from '../../../../core/errors'
import { savedRestore } from '../../../../engine/catalog/saved-restores'
import { vesselById } from '../../../../engine/catalog/vessels'

/** Runs a saved restore on the newest point of its vessel. */
export default route(async (engine, event) => {
  const saved = await savedRestore(engine, idOf(event))
  const vessel = await vesselById(engine, saved.vessel_id)
  const point = await engine.db
    .selectFrom('point')
    .select('id')
    .where('vessel_id', '=', vessel.id)
    .where('kept_for', 'is', null)
    .orderBy('at', 'desc')
    .limit(1)
    .executeTakeFirst()
  if (!point) {
    throw new VesselError('no_point', {
      what: `${vessel.name} has no recovery point yet.`,
      touched: 'Nothing was changed.',
      next: 'Back it up first.',
      status: 409,
    })
  }
  const { wish, reason, name } = saved
  const params = { point: point.id, wish, reason, saved: saved.id }
  const id = await engine.startRun({ kind: 'restore', vessel, startedBy: PERSON, name, comment: reason, params })
  await engine.db.updateTable('saved_restore').set({ last_run_id: id }).where('id', '=', saved.id).execute()
  return created(event, { id })
})
