import { randomUUID } from 'node:crypto'
import type { PointRecord } from '../../../core/content/manifest'
import type { Rule } from '../../../core/selection/rules'
import { pathOf } from '../../../core/things/thing'
import { isAtWork } from '../../catalog/runs'
import type { Vessel } from '../../catalog/vessels'
import { captureCluster } from '../../sources/kubernetes/capture'
import type { ClusterClient } from '../../sources/kubernetes/client'
import type { Moment } from '../../sources/source'
import type { Store } from '../../store/store'
import { ContentWriter } from '../../store/writer'
import type { RunContext } from '../context'
import { commitPoint, writeJson } from '../manifests'
import { piecesOf } from '../pieces'
import type { PlannedNamespace } from './plan'

const DAY_MS = 86_400_000
/** What is about to be overwritten is captured by itself, whenever it is. */
const NOW: Moment = { reached: async () => undefined, captured: () => undefined, taken: async () => undefined, left: () => null }

/** Keeps the objects and volumes that a plan is about to change, as a recovery point of their own. */
export async function keepStanding(
  run: RunContext,
  vessel: Vessel,
  store: Store,
  client: ClusterClient,
  { plan, wish, access }: PlannedNamespace,
): Promise<void> {
  const isChanged = ({ verb }: { verb: string }) => verb === 'replace' || verb === 'merge'
  const rules: Rule[] = [
    ...plan.operations
      .filter(isChanged)
      .map(({ target }) => ({ id: target, act: 'take' as const, kind: 'object' as const, pattern: target })),
    ...plan.volumes.filter(isChanged).map(({ target }) => ({ id: target, act: 'take' as const, kind: 'volume' as const, pattern: target })),
  ]
  if (rules.length === 0) return
  const writer = new ContentWriter(store, run.id)
  const manifest = await captureCluster(client, {
    progress: run,
    moment: NOW,
    run: run.id,
    isAtWork: (id) => isAtWork(run.engine, id),
    rules,
    readers: vessel.definition.readers,
    writer,
    earlier: async () => undefined,
    snapshot: async () => null,
  })
  const now = run.engine.clock.now()
  const id = randomUUID()
  const members: (PointRecord['members'][number] & { stored: number })[] = []
  for (const piece of piecesOf(manifest)) {
    const names = await writeJson(writer, piece.manifest)
    const { position, rows, bytes } = piece
    const member = pathOf(piece.manifest.member, piece.name)
    members.push({ member, artifact: randomUUID(), kind: 'full', position, rows, bytes, manifest: names, stored: writer.stored })
  }
  const record: PointRecord = {
    format: 1,
    id,
    vessel: { id: vessel.id, name: vessel.name, version: vessel.version, definition: vessel.definition },
    run: run.id,
    at: now.toISOString(),
    name: 'Kept before it was overwritten',
    comment: null,
    consistency: 'as found',
    complete: false,
    members: members.map(({ stored: _, ...member }) => member),
  }
  const finished = members.map(({ artifact, stored }) => ({ artifact, sourceId: access.id, at: now, stored }))
  const expires = new Date(now.getTime() + wish.keepDays * DAY_MS)
  await commitPoint(run.engine, store, writer, record, finished, { keptFor: run.id, expires, missing: [] })
}
