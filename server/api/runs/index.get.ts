import * as v from 'valibot'
import { listRuns } from '../../../engine/catalog/run-views'

const State = v.picklist(['waiting', 'running', 'done', 'warned', 'failed', 'cancelled'])
const split = (text: string) => text.split(',').filter(Boolean)
const PAGE = 60

const Query = v.object({
  vessel: v.optional(v.string()),
  kinds: KindsOfRuns,
  states: v.optional(v.pipe(v.string(), v.transform(split), v.array(State)), ''),
  from: v.optional(Moment),
  to: v.optional(Moment),
  text: v.optional(v.pipe(v.string(), v.maxLength(200))),
  at: v.optional(Moment),
  id: v.optional(v.pipe(v.string(), v.uuid())),
})

export default route(async (engine, event) => {
  const { from, to, text, at, id, ...filter } = queryOf(event, Query)
  const before = at && id ? { at, id } : undefined
  return listRuns(engine, { ...filter, since: from, until: to, text: text?.trim(), before, limit: PAGE })
})
