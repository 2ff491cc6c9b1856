import { randomUUID } from 'node:crypto'
import type { LogManifest } from '../../core/changes/manifest'
import { errorRecord, VesselError } from '../../core/errors'
import { plural } from '../../core/time/words'
import { openStore } from '../catalog/stores'
import type { Vessel } from '../catalog/vessels'
import type { Store } from '../store/store'
import { notify } from '../notify'
import type { RunContext } from './context'
import { readJson } from './manifests'

/**
 * Reads every chunk of the vessel's store and checks its seal and its name. What is damaged is forgotten, so
 * that the next full stores it anew under the same name, which mends earlier points too.
 */
export async function verify(run: RunContext, vessel: Vessel): Promise<void> {
  const store = await openStore(run.engine, { name: vessel.definition.store })
  const packs = await store.index.packs()
  run.expect(
    'bytes',
    packs.reduce((sum, pack) => sum + pack.bytes, 0),
  )
  const step = await run.plan({ kind: 'verify', member: store.name, title: 'Packs' })
  const damaged = new Set<string>()
  await run.step(step, async (count) => {
    for (const pack of packs) await verifyPack(run, store, pack.id, damaged, count)
  })
  const now = run.engine.clock.now()
  const error = damaged.size === 0 ? null : damage(store, damaged.size)
  await run.engine.db
    .updateTable('store')
    .set({ verified_at: now, trouble: error ? JSON.stringify(error.toJSON()) : null })
    .where('id', '=', store.id)
    .execute()
  await breakLogs(run, store, damaged)
  if (error) throw error
  await run.engine.db.updateTable('point').set({ verified_at: now }).where('store_id', '=', store.id).execute()
  await run.end('done', { outcome: { packs: packs.length } })
}

/** Segments of log that can't be read are holes from now on; what leads on from them needs a new full. */
async function breakLogs(run: RunContext, store: Store, damaged: Set<string>): Promise<void> {
  if (damaged.size === 0) return
  const { db } = run.engine
  const segments = await db
    .selectFrom('artifact')
    .selectAll()
    .where('store_id', '=', store.id)
    .where('kind', '=', 'log')
    .where('damaged', '=', false)
    .execute()
  for (const segment of segments) {
    const log = segment.manifest.some((name) => damaged.has(name))
      ? null
      : await readJson<LogManifest>(store, segment.manifest).catch(() => null)
    if (log?.chunks.every(({ name }) => !damaged.has(name))) continue
    await db.updateTable('artifact').set({ damaged: true }).where('id', '=', segment.id).execute()
    const next = await db
      .selectFrom('artifact')
      .select('at')
      .where('vessel_id', '=', segment.vessel_id)
      .where('member', '=', segment.member)
      .where('kind', '<>', 'log')
      .where('at', '>=', segment.at)
      .orderBy('at')
      .limit(1)
      .executeTakeFirst()
    await db
      .insertInto('chain_break')
      .values({
        id: randomUUID(),
        vessel_id: segment.vessel_id,
        member: segment.member,
        kind: 'segment',
        reason: `A segment of log in ${store.name} can’t be read any more: its seal does not hold.`,
        next: next ? 'Instants before and after it can be entered.' : 'A new full begins by itself.',
        tables: '[]',
        from_position: segment.from_position,
        from_at: segment.from_at,
        to_at: next?.at ?? null,
        at: run.engine.clock.now(),
      })
      .execute()
    await notify(db, { about: 'log', vessel: segment.vessel_id, member: segment.member })
  }
}

async function verifyPack(
  run: RunContext,
  store: Store,
  pack: string,
  damaged: Set<string>,
  count: (counter: string, by: number) => void,
): Promise<void> {
  for (const entry of await store.index.entriesOf(pack)) {
    run.signal.throwIfAborted()
    const name = entry.name.toString('hex')
    try {
      await store.readAt(name, entry)
    } catch (error) {
      const record = errorRecord(error)
      if (record.code === 'internal') throw error
      damaged.add(name)
      await store.index.forget(entry.name, pack)
      await run.say('error', record.what)
    }
    count('bytes', entry.length)
    count('chunks', 1)
  }
}

function damage(store: Store, chunks: number): VesselError {
  return new VesselError('store_damaged', {
    what: `${plural(chunks, 'chunk')} of the store ${store.name} can’t be read.`,
    touched: 'Nothing was changed. Points that do not need them are whole.',
    next: 'Look at the disk, and back up again: content that is damaged is stored anew with the next full.',
  })
}
