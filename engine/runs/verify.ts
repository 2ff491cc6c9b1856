import { plural } from '../../core/time/words'
import { VesselError } from '../../core/errors'
import { openStore } from '../catalog/stores'
import { strangersIn } from '../store/strangers'
import type { Store } from '../store/store'
import type { RunContext } from './context'
import { verifyContent } from './verify-content'
import { verifyFollowers } from './verify-followers'
import { listVerified, verifyRecords, type Found } from './verify-records'

/**
 * Reads all of a store: every chunk, against its seal and its name; then every point and every segment of
 * log, with its record and all that it rests upon. What can't be read is marked, with all that needs it, and nothing is
 * removed: what can be read the next time is whole again. A store that is not there is no damage: then nothing is said
 * of what was not read.
 */
export async function verify(run: RunContext, name: string): Promise<void> {
  const store = await openStore(run.engine, { name })
  const all = await listVerified(run, store)
  const lost = await verifyContent(run, store)
  const found = await verifyRecords(run, store, all)
  const structures = await verifyFollowers(run, store)
  await tellStrangers(run, store)
  await run.confirm()
  const error = lost + found.points + found.segments + structures === 0 ? null : damage(store, lost, found, structures)
  await run.engine.db
    .updateTable('store')
    .set({ verified_at: run.engine.clock.now(), trouble: error ? JSON.stringify(error.toJSON()) : null })
    .where('id', '=', store.id)
    .execute()
  if (error) throw error
  await run.end(run.warnings > 0 ? 'warned' : 'done', { outcome: { ...found.looked } })
}

/** What nothing in the catalog leads to is told, and stays. */
async function tellStrangers(run: RunContext, store: Store): Promise<void> {
  const [points, segments, packs] = [
    await strangersIn(store, 'points'),
    await strangersIn(store, 'segments'),
    await strangersIn(store, 'packs'),
  ]
  const parts = [
    ...(points.length > 0 ? [plural(points.length, 'point')] : []),
    ...(segments.length > 0 ? [plural(segments.length, 'segment') + ' of log'] : []),
    ...(packs.length > 0 ? [plural(packs.length, 'pack')] : []),
  ]
  if (parts.length > 0)
    await run.say('warning', `In ${store.name} lie ${parts.join(', ')} of which the catalog knows nothing. They were not touched.`)
}

function damage(store: Store, chunks: number, { points, segments }: Found, structures: number): VesselError {
  const parts = [
    ...(chunks > 0 ? [plural(chunks, 'chunk')] : []),
    ...(points > 0 ? [plural(points, 'point')] : []),
    ...(segments > 0 ? [plural(segments, 'segment') + ' of log'] : []),
    ...(structures > 0 ? [plural(structures, 'structure') + ' from which a log is followed'] : []),
  ]
  return new VesselError('store_damaged', {
    what: `In the store ${store.name} can’t be read, or not all of: ${parts.join(', ')}.`,
    touched: 'Nothing was changed or removed. What rests upon it is marked; everything else is whole.',
    next: 'Look at the disk, and back up again: content that is damaged is stored anew with the next full. Then verify once more.',
  })
}
