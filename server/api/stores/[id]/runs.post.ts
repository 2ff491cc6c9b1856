import * as v from 'valibot'
import { vesselOfStore } from '../../../../engine/catalog/stores'

const Body = v.strictObject({ kind: v.picklist(['verify', 'reindex']) })

/** Starts a run that looks after a store: reads all that lies in it, or makes its index anew. */
export default route(async (engine, event) => {
  const { kind } = await bodyOf(event, Body)
  const { vessel, store } = await vesselOfStore(engine, idOf(event))
  return created(event, { id: await engine.startRun({ kind, vessel, startedBy: PERSON, params: { store } }) })
})
