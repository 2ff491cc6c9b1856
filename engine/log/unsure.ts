import type { MomentRef } from '../../core/chain/moment-ref'
import type { Missing } from '../../core/content/manifest'
import type { EngineContext } from '../context'
import { noRows } from '../points/open'
import { lostOf } from '../runs/lost-content'
import { openMoment } from './moment'

/** What is not exactly as it was at a moment, or not known there at all, with the reason; the unknown first. */
export async function unsureAt(engine: EngineContext, id: string, ref: MomentRef): Promise<Missing[]> {
  const point = await openMoment(engine, id, ref, noRows)
  const all = point.members.flatMap(({ manifest }) => manifest.databases.flatMap(({ missing }) => missing))
  all.push(...(await lostOf(point)))
  return all.sort((a, b) => Number(a.note ?? false) - Number(b.note ?? false))
}
