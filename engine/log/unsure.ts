import type { InstantRef } from '../../core/chain/instant-ref'
import type { Missing } from '../../core/content/manifest'
import type { EngineContext } from '../context'
import { noRows } from '../points/open'
import { lostOf } from '../runs/lost-content'
import { openInstant } from './instant'

/** What is not exactly as it was at an instant, or not known there at all, with the reason; the unknown first. */
export async function unsureAt(engine: EngineContext, id: string, ref: InstantRef): Promise<Missing[]> {
  const point = await openInstant(engine, id, ref, noRows)
  const all = point.members.flatMap(({ manifest }) => manifest.databases.flatMap(({ missing }) => missing))
  all.push(...(await lostOf(point)))
  return all.sort((a, b) => Number(a.note ?? false) - Number(b.note ?? false))
}
