import { plural } from '../../core/time/words'
import { vesselsKeeping } from '../catalog/stores'
import { chunksOfJson } from '../store/json'
import type { Store } from '../store/store'
import type { RunContext } from './context'

/**
 * Looks whether the structures are there from which logs are followed; they are a part of no point. Returns how many
 * are not: moments of the past do not need them, but whoever goes on with such a log begins it anew.
 */
export async function verifyFollowers(run: RunContext, store: Store): Promise<number> {
  const { db } = run.engine
  const here = (await vesselsKeeping(run.engine, store.name)).map(({ id }) => id)
  if (here.length === 0) return 0
  const followers = await db
    .selectFrom('follower')
    .select(['member', 'structure_names'])
    .where('vessel_id', 'in', here)
    .where('state', 'in', ['following', 'stalled'])
    .execute()
  let unreadable = 0
  for (const { member, structure_names: structure } of followers) {
    const lost = structure ? await store.index.lost(await chunksOfJson(store, structure.chunks)) : 0
    if (lost === 0) continue
    unreadable++
    await run.say('error', `${member}: the structure from which its log is followed can’t be read any more (${plural(lost, 'chunk')}).`)
  }
  return unreadable
}
