import * as v from 'valibot'
import { listRuns } from '../../../engine/catalog/run-views'
import { RUN_KINDS } from '../../../engine/catalog/types'

const Kind = v.picklist(RUN_KINDS)
const State = v.picklist(['waiting', 'running', 'done', 'warned', 'failed', 'cancelled'])
const split = (text: string) => text.split(',').filter(Boolean)
const PAGE = 60

const Query = v.object({
  vessel: v.optional(v.string()),
  kinds: v.optional(v.pipe(v.string(), v.transform(split), v.array(Kind)), ''),
  states: v.optional(v.pipe(v.string(), v.transform(split), v.array(State)), ''),
  at: v.optional(
    v.pipe(
      v.string(),
      v.isoTimestamp(),
      v.transform((text) => new Date(text)),
    ),
  ),
  id: v.optional(v.pipe(v.string(), v.uuid())),
})

export default route(async (engine, event) => {
  const { vessel, kinds, states, at, id } = queryOf(event, Query)
  return listRuns(engine, { vessel, kinds, states, before: at && id ? { at, id } : undefined, limit: PAGE })
})
