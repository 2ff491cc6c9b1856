import { sql } from 'kysely'
import { dueTimes } from '../../core/plan/due'
import { vesselOfStore } from '../catalog/stores'
import { insertRun } from '../catalog/runs'
import { VesselError } from '../../core/errors'
import { notify } from '../notify'
import { BY_THE_PLAN, catalogNow } from './planned-runs'
import type { SchedulerContext } from './scheduler'

/** Begins a prune of every store whose time of the day has come since the last one; one at a time, whoever looks. */
export async function pruneWhenDue(engine: SchedulerContext): Promise<void> {
  const stores = await engine.db.selectFrom('store').select('id').where('prune', 'is not', null).execute()
  for (const { id } of stores) {
    const begun = await beginIfDue(engine, id)
    if (begun) await notify(engine.db, { about: 'run', id: begun.run, vessel: begun.vessel, state: 'waiting' })
  }
}

async function beginIfDue(engine: SchedulerContext, storeId: string): Promise<{ run: string; vessel: string } | null> {
  return engine.db.transaction().execute(async (tx) => {
    const store = await tx
      .selectFrom('store')
      .select(['name', 'prune', 'created_at'])
      .where('id', '=', storeId)
      .forUpdate()
      .executeTakeFirst()
    if (!store?.prune) return null
    const last = await tx
      .selectFrom('run')
      .select(['created_at', 'state'])
      .where('kind', '=', 'prune')
      .where(sql<string>`params->>'store'`, '=', store.name)
      .where(sql<boolean>`params->'dry' is distinct from 'true'`)
      .orderBy('created_at', 'desc')
      .limit(1)
      .executeTakeFirst()
    if (last && (last.state === 'waiting' || last.state === 'running')) return null
    const { zone, at } = store.prune
    const since = (last?.created_at ?? store.created_at).getTime()
    const times = { kind: 'days' as const, at: [at], on: { of: 'every day' as const } }
    const now = await catalogNow({ db: tx, clock: engine.clock })
    const due = dueTimes({ zone, from: new Date(0).toISOString() }, { times }, since).next().value
    if (due === undefined || due > now.getTime()) return null
    const found = await vesselOfStore({ ...engine, db: tx }, storeId).catch((error: unknown) => {
      // Nothing lies in it.
      if (error instanceof VesselError) return null
      throw error
    })
    if (!found) return null
    const run = await insertRun(tx, { kind: 'prune', vessel: found.vessel, startedBy: BY_THE_PLAN, params: { store: store.name } }, now)
    await engine.enqueue(tx, run, 'prune')
    return { run, vessel: found.vessel.id }
  })
}
