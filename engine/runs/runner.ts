import { patiently } from '../catalog/connect'
import type { EngineContext } from '../context'
import { errorRecord, VesselError } from '../../core/errors'
import { audit, type AuditParams } from './audit'
import { backup } from './backup'
import { readLeft } from './clusters/fetch'
import { RunContext } from './context'
import { restore } from './restore'
import { undo } from './undo'
import { rehearseStill } from './still'
import { verify } from './verify'

/** Does one run from its beginning to its end; whatever happens is on its record. */
export async function perform(engine: EngineContext, runId: string): Promise<void> {
  const recorded = engine.db
    .selectFrom('run')
    .innerJoin('vessel', 'vessel.id', 'run.vessel_id')
    .innerJoin('vessel_version', (join) =>
      join.onRef('vessel_version.vessel_id', '=', 'run.vessel_id').onRef('vessel_version.version', '=', 'run.vessel_version'),
    )
    .select([
      'run.id',
      'run.kind',
      'run.name',
      'run.comment',
      'run.params',
      'run.vessel_version',
      'vessel.id as vessel_id',
      'vessel.slug',
      'vessel.name as vessel_name',
      'vessel.paused',
      'vessel_version.definition',
    ])
    .where('run.id', '=', runId)
  const row = await patiently(() => recorded.executeTakeFirst())
  if (!row) return
  const run = new RunContext(engine, runId, row.vessel_id)
  if (!(await patiently(() => run.begin()))) return
  const vessel = {
    id: row.vessel_id,
    slug: row.slug,
    name: row.vessel_name,
    paused: row.paused,
    version: row.vessel_version,
    definition: row.definition,
  }
  try {
    run.signal.throwIfAborted()
    if (row.kind === 'backup')
      await backup(run, vessel, { name: row.name, comment: row.comment }, (row.params.what as 'full' | undefined) ?? 'full')
    else if (row.kind === 'verify') await verify(run, vessel)
    else if (row.kind === 'audit') await audit(run, vessel, row.params as AuditParams)
    else if (row.kind === 'still') await rehearseStill(run, row.params as never)
    else if (row.kind === 'fetch') await readLeft(run, vessel, row.params as never)
    else if (row.kind === 'undo') await undo(run, vessel, row.params as never)
    else await restore(run, vessel, row.params as never, row.kind === 'rehearsal')
  } catch (thrown) {
    const error = run.signal.aborted ? run.signal.reason : thrown
    if (!(error instanceof VesselError)) console.error(`run ${runId}:`, error)
    await run.say('error', errorRecord(error).what).catch(() => undefined)
    await run.end(error instanceof VesselError && error.code === 'cancelled' ? 'cancelled' : 'failed', { error })
  }
}
