import { randomUUID } from 'node:crypto'
import { VesselError } from '../../core/errors'
import type { EngineContext } from '../context'
import { notify } from '../notify'
import type { RunKind } from './types'
import type { Vessel } from './vessels'

export interface NewRun {
  kind: RunKind
  vessel: Vessel
  startedBy: string
  name?: string | null
  comment?: string | null
  params?: Record<string, unknown>
}

/** Whether a run is waiting or at work. */
export async function isAtWork(engine: EngineContext, id: string): Promise<boolean> {
  const row = await engine.db.selectFrom('run').select('state').where('id', '=', id).executeTakeFirst()
  return row?.state === 'running' || row?.state === 'waiting'
}

/** Records a run that a worker shall do. The caller puts it into the queue. */
export async function addRun(engine: EngineContext, run: NewRun): Promise<string> {
  const id = randomUUID()
  const now = engine.clock.now()
  await engine.db
    .insertInto('run')
    .values({
      id,
      kind: run.kind,
      vessel_id: run.vessel.id,
      vessel_version: run.vessel.version,
      state: 'waiting',
      name: run.name?.trim() || null,
      comment: run.comment?.trim() || null,
      started_by: run.startedBy,
      params: JSON.stringify(run.params ?? {}),
      at: now,
      created_at: now,
      counters: '{}',
    })
    .execute()
  await notify(engine.db, { about: 'run', id, vessel: run.vessel.id, state: 'waiting' })
  return id
}

/** Asks a run to stop. The worker that does it sees this within a second and leaves nothing half-made. */
export async function requestCancel(engine: EngineContext, id: string): Promise<void> {
  const row = await engine.db
    .updateTable('run')
    .set({ cancel_requested_at: engine.clock.now() })
    .where('id', '=', id)
    .where('state', 'in', ['waiting', 'running'])
    .returning('vessel_id')
    .executeTakeFirst()
  if (!row) {
    throw new VesselError('run_over', {
      what: 'This run is over already, or never was.',
      touched: 'Nothing was changed.',
      next: 'Look at how it ended.',
      status: 409,
    })
  }
  await notify(engine.db, { about: 'run', id, vessel: row.vessel_id, state: 'cancelling' })
}
