import { sql } from 'kysely'
import { VesselError } from '../../core/errors'
import type { Act } from '../../core/quiesce/sequence'
import type { CatalogDb } from '../catalog/connect'

/** A workload of a cluster, as it is leased by whoever stops it. */
export interface LeasedWorkload {
  source: string
  namespace: string
  kind: string
  name: string
}

/** What a step of a hold stops. */
export const leasedBy = (source: string, namespace: string, { workload, name }: Extract<Act, { kind: 'scale' }>): LeasedWorkload => ({
  source,
  namespace,
  kind: workload,
  name,
})

const whatOf = ({ source, namespace, kind, name }: LeasedWorkload) => JSON.stringify(['workload', source, namespace, kind, name])

/**
 * Takes a workload for a run, before it is looked at how it is going: who finds it stopped by somebody else would start
 * it as a stopped one. What a run has taken stays its own until it gives it back, or until the run is over and nothing
 * of it is held or is to be undone any more.
 *
 * @throws VesselError `workload_held`
 */
export async function takeWorkload(db: CatalogDb, workload: LeasedWorkload, runId: string): Promise<void> {
  if (!(await take(db, whatOf(workload), runId))) throw await heldBy(db, workload)
}

/** Takes a place that a restore writes into; false while another run has it. It is given back by the run's end. */
export const takeTarget = (db: CatalogDb, place: string[], runId: string): Promise<boolean> =>
  take(db, JSON.stringify(['target', ...place]), runId)

async function take(db: CatalogDb, what: string, runId: string): Promise<boolean> {
  const { numInsertedOrUpdatedRows } = await db
    .insertInto('lease')
    .values({ what, run_id: runId })
    .onConflict((conflict) =>
      conflict
        .column('what')
        .doUpdateSet({ run_id: runId, taken_at: sql<Date>`now()` })
        .where((eb) => eb.or([eb('lease.run_id', '=', runId), isOver])),
    )
    .executeTakeFirst()
  return numInsertedOrUpdatedRows !== 0n
}

/** Whether the run that has a lease is over, and nothing is left of it. */
const isOver = sql<boolean>`not exists (select from run where run.id = lease.run_id and run.state in ('waiting', 'running'))
  and not exists (select from hold where hold.run_id = lease.run_id and hold.state <> 'released')
  and not exists (select from run_undo where run_undo.run_id = lease.run_id)`

export async function giveBack(db: CatalogDb, workload: LeasedWorkload, runId: string): Promise<void> {
  await db.deleteFrom('lease').where('what', '=', whatOf(workload)).where('run_id', '=', runId).execute()
}

async function heldBy(db: CatalogDb, workload: LeasedWorkload): Promise<VesselError> {
  const holder = await db
    .selectFrom('lease')
    .innerJoin('run', 'run.id', 'lease.run_id')
    .innerJoin('vessel', 'vessel.id', 'run.vessel_id')
    .select('vessel.name')
    .where('lease.what', '=', whatOf(workload))
    .executeTakeFirst()
  return new VesselError('workload_held', {
    what: `${workload.kind} ${workload.namespace}/${workload.name} is stopped by another run${holder ? ` of ${holder.name}` : ''}.`,
    touched: 'It was not touched: started again by two, it would not be as it was.',
    next: 'Start this again when that run is over.',
    status: 409,
  })
}
