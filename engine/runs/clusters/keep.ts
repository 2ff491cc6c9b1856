import { randomUUID } from 'node:crypto'
import type { Missing, PointRecord } from '../../../core/content/manifest'
import { VesselError } from '../../../core/errors'
import type { Rule } from '../../../core/selection/rules'
import { pathOf } from '../../../core/things/thing'
import { isOver } from '../../catalog/runs'
import type { Vessel } from '../../catalog/vessels'
import { entriesOf } from '../../look/cluster'
import type { OpenPoint } from '../../points/open'
import { captureCluster } from '../../sources/kubernetes/capture'
import type { ClusterClient } from '../../sources/kubernetes/client'
import type { CaptureMoment, Progress } from '../../sources/source'
import { ContentWriter } from '../../store/writer'
import type { RunContext } from '../context'
import { commitKept } from '../kept-point'
import { willLeave } from './leftovers'
import { type FinishedMember } from '../manifests'
import { writeJson } from '../../store/json'
import { piecesOf } from '../pieces'
import type { PlannedNamespace } from './plan'

/** What is about to be overwritten is captured by itself, whenever it is. */
const NOW: CaptureMoment = {
  reached: async () => undefined,
  captured: () => undefined,
  taken: async () => undefined,
  remainingMs: () => null,
}

/** What is kept is counted apart from what is restored. */
const countedApart = (run: RunContext): Progress => ({
  ...run.within(run.signal),
  step: (ordinal, work) => run.step(ordinal, (count) => work((counter, by) => count(`${counter} kept`, by))),
  expect: (counter, by) => run.expect(`${counter} kept`, by),
})

/** Keeps the objects and volumes that a plan is about to change, as a recovery point of their own. */
export async function keepStanding(
  run: RunContext,
  vessel: Vessel,
  { store }: OpenPoint,
  client: ClusterClient,
  { plan, manifest: before, wish, access }: PlannedNamespace,
): Promise<void> {
  const isChanged = ({ verb }: { verb: string }) => verb === 'replace' || verb === 'merge'
  const rules: Rule[] = [
    ...plan.operations
      .filter(isChanged)
      .map(({ target }) => ({ id: target, act: 'take' as const, kind: 'object' as const, pattern: target })),
    ...plan.volumes.filter(isChanged).map(({ target }) => ({ id: target, act: 'take' as const, kind: 'volume' as const, pattern: target })),
  ]
  if (rules.length === 0) return
  const writer = new ContentWriter(store, run.id, (tx) => run.confirm(tx))
  const manifest = await captureCluster(client, {
    progress: countedApart(run),
    moment: NOW,
    run: run.id,
    isOver: (id) => isOver(run.engine, id),
    rules,
    readers: vessel.definition.readers,
    writer,
    earlier: async () => undefined,
    folderToRead: () => ({ folder: '', trouble: null }),
    // What is as it was then is in the store already; nobody waits for a whole volume because of one file.
    earlierFiles: async (path) => {
      const from = plan.volumes.find(({ target }) => target === path)?.path
      const volume = before.volumes.find((volume) => volume.path === from && volume.onlyAt === undefined)
      return volume && (() => entriesOf(store, volume))
    },
    willLeave: (source) => willLeave(run, source),
    keptAtSource: null,
    snapshot: async () => null,
  })
  const lost = piecesOf(manifest).flatMap(({ missing }) => missing.filter(({ note }) => !note))
  if (lost.length > 0) {
    await writer.discard()
    throw notKept(lost)
  }
  const at = run.engine.clock.now()
  const members: PointRecord['members'] = []
  const finished: FinishedMember[] = []
  for (const piece of piecesOf(manifest)) {
    const names = await writeJson(writer, piece.manifest)
    const { position, rows, bytes } = piece
    const artifact = randomUUID()
    members.push({ member: pathOf(piece.manifest.member, piece.name), artifact, kind: 'full', position, rows, bytes, manifest: names })
    finished.push({ artifact, sourceId: access.id, at, stored: writer.stored })
  }
  await commitKept(run, vessel, store, writer, { consistency: 'as found', at, days: wish.keepDays, members }, finished)
}

const notKept = (lost: Missing[]) =>
  new VesselError('not_kept', {
    what: `What is about to be overwritten could not be kept. ${lost[0]!.path}: ${lost[0]!.reason}${lost.length > 1 ? ` And ${lost.length - 1} more.` : ''}`,
    touched: 'Nothing was overwritten: everything is as it was.',
    next: 'Mend this at the cluster, or bring it back under another name, where nothing has to be kept.',
  })
