import { positionOf } from '../../core/chain/position'
import { VesselError } from '../../core/errors'
import type { EngineContext } from '../context'
import { notify } from '../notify'

const ASK_EVERY_MS = 250
const PATIENCE_MS = 120_000
/** How long is waited for the structure to be read that a moment has. */
const SETTLE_MS = 30_000

/**
 * Waits until the log of a member is in the store up to a position, and has it brought there now. Returns where the
 * log then ends: at or after the position, or before it when nothing was changed between.
 * @throws VesselError `log_behind` when it does not come
 */
export async function waitForLog(
  engine: EngineContext,
  vesselId: string,
  member: string,
  position: string,
  signal: AbortSignal,
): Promise<string> {
  const wanted = positionOf(position)!
  let why = 'it did not come within two minutes'
  for (const end = Date.now() + PATIENCE_MS; Date.now() < end;) {
    signal.throwIfAborted()
    const row = await engine.db
      .selectFrom('follower')
      .select(['position', 'caught_up_position', 'state', 'trouble'])
      .where('vessel_id', '=', vesselId)
      .where('member', '=', member)
      .executeTakeFirst()
    if (row?.trouble) why = row.trouble.what
    if (!row?.position || row.state === 'broken' || row.state === 'waiting') break
    if (positionOf(row.position)! >= wanted || (row.caught_up_position && positionOf(row.caught_up_position)! >= wanted))
      return row.position
    await notify(engine.db, { about: 'flush', vessel: vesselId, member })
    await new Promise((resolve) => setTimeout(resolve, ASK_EVERY_MS))
  }
  throw new VesselError('log_behind', {
    what: `The log of ${member} does not come up to ${position}: ${why}`,
    touched: 'Nothing was changed; earlier points are untouched.',
    next: 'Look at the log in the definition of the vessel: what stands in its way is said there.',
  })
}

/**
 * The state at a position once the log tells how all of its structure was made, which comes soon after what changed it.
 * Where it does not come, it is the state as far as it is known, with what is told of the rest.
 */
export async function whenSettled<T extends { settled: boolean }>(
  engine: EngineContext,
  vesselId: string,
  member: string,
  open: () => Promise<T>,
  signal: AbortSignal,
): Promise<T> {
  for (const end = Date.now() + SETTLE_MS; ;) {
    const found = await open()
    if (found.settled || Date.now() > end) return found
    signal.throwIfAborted()
    await notify(engine.db, { about: 'flush', vessel: vesselId, member })
    await new Promise((resolve) => setTimeout(resolve, ASK_EVERY_MS))
  }
}
