import { randomUUID } from 'node:crypto'
import type { Consistency } from '../../core/quiesce/consistency'
import type { PointRecord } from '../../core/content/manifest'
import type { Vessel } from '../catalog/vessels'
import type { Store } from '../store/store'
import type { ContentWriter } from '../store/writer'
import type { RunContext } from './context'
import { commitPoint, type FinishedMember } from './manifests'

const DAY_MS = 86_400_000

/** Makes what a run is about to overwrite a recovery point of its own, which goes by itself. Returns its id. */
export async function commitKept(
  run: RunContext,
  vessel: Vessel,
  store: Store,
  writer: ContentWriter,
  kept: { consistency: Consistency; at: Date; days: number; members: PointRecord['members'] },
  finished: FinishedMember[],
): Promise<string> {
  const record: PointRecord = {
    format: 1,
    id: randomUUID(),
    vessel: { id: vessel.id, name: vessel.name, version: vessel.version, definition: vessel.definition },
    run: run.id,
    at: kept.at.toISOString(),
    name: 'Kept before it was overwritten',
    comment: null,
    consistency: kept.consistency,
    complete: false,
    members: kept.members,
  }
  const expires = new Date(kept.at.getTime() + kept.days * DAY_MS)
  await commitPoint(run, store, writer, record, finished, { keptFor: run.id, expires, missing: [] })
  return record.id
}
