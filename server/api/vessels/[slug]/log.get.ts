import * as v from 'valibot'
import { vesselBySlug } from '../../../../engine/catalog/vessels'
import { searchLog } from '../../../../engine/log/search'

const OPS = ['insert', 'update', 'delete', 'empty'] as const
const Micros = v.pipe(v.string(), v.regex(/^\d{1,17}$/, 'This is no time.'), v.transform(Number))
const text = (max: number) => v.optional(v.nullable(v.pipe(v.string(), v.maxLength(max))), null)
const After = v.pipe(
  v.string(),
  v.regex(/^[0-9a-f-]{36}\.\d{1,15}\.\d{1,6}$/, 'This is no place in the log.'),
  v.transform((place) => {
    const [segment, at, chunk] = place.split('.')
    return { segment: segment!, at: Number(at), chunk: Number(chunk) }
  }),
)
const Query = v.object({
  table: text(200),
  ops: v.optional(
    v.pipe(
      v.string(),
      v.transform((list) => list.split(',').filter(Boolean)),
      v.array(v.picklist(OPS)),
    ),
    '',
  ),
  column: text(63),
  value: text(10_000),
  xid: v.optional(v.nullable(v.pipe(v.string(), v.regex(/^\d{1,20}$/, 'The number of a transaction is a number.'))), null),
  from: v.optional(Micros),
  to: v.optional(Micros),
  after: v.optional(After),
})

/** Changes in the log, the newest first. */
export default route(async (engine, event) => {
  const { from, to, after, ...query } = queryOf(event, Query)
  const { id } = await vesselBySlug(engine, slugOf(event))
  return searchLog(engine, id, { ...query, from: from ?? null, to: to ?? null, after: after ?? null, limit: 200 })
})
