import * as v from 'valibot'
import { vesselOfStore } from '../../../../engine/catalog/stores'

const Body = v.strictObject({ kind: v.picklist(['verify', 'reindex', 'prune']), dry: v.optional(v.boolean(), false) })

/** Starts a run that looks after a store: reads all that lies in it, makes its index anew, or lets go what may go. */
export default route(async (engine, event) => {
  const { kind, dry } = await bodyOf(event, Body)
  const { vessel, store } = await vesselOfStore(engine, idOf(event))
  const params = { store, ...(kind === 'prune' ? { dry } : {}) }
  return created(event, { id: await engine.startRun({ kind, vessel, startedBy: PERSON, params }) })
})
