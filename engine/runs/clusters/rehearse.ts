import type { VolumeManifest } from '../../../core/content/manifest'
import { VesselError } from '../../../core/errors'
import { entriesOf, withContent } from '../../look/cluster'
import { inParallel } from '../../parallel'
import type { OpenPoint } from '../../points/open'
import { digesting } from '../../pool/digest'
import { ClusterClient } from '../../sources/kubernetes/client'
import type { RunContext } from '../context'
import { outcomeOf, type Receipts } from '../receipts'
import { Applier } from './apply'
import type { PlannedNamespace } from './plan'

const AT_ONCE = 8

/** Asks the cluster whether it would take every object, and reads every file in the store; nothing is written. */
export async function rehearseNamespace(run: RunContext, point: OpenPoint, planned: PlannedNamespace, receipts: Receipts): Promise<void> {
  const { plan, objects, access, manifest } = planned
  const member = `${access.name} / ${plan.into}`
  const client = new ClusterClient(access)
  try {
    const asking = await run.plan({ kind: 'content', member, title: 'The cluster would take it' })
    const reading = await run.plan({ kind: 'content', member, title: 'Files can be read' })
    const apply = new Applier(client, run.signal)
    await run.step(asking, async (count) => {
      await apply.learn()
      await inParallel(objects, AT_ONCE, async (object) => {
        const { path, target, verb, namespace } = object.operation
        if (verb === 'leave') return receipts.leave(object.operation)
        // Where its namespace or its kind is yet to be made, the cluster can't be asked.
        const canAsk =
          !(plan.makes && namespace !== null) &&
          planned.target.served.some(({ kind, group }) => kind === object.operation.kind && group === object.operation.group)
        try {
          if (canAsk) await apply.wouldTake(object)
          receipts.line(path, target, verb, outcomeOf(object.operation), {})
        } catch (error) {
          run.signal.throwIfAborted()
          receipts.broken(path, target, verb, client.translate(error))
        }
        count('objects', 1)
      })
    })
    await run.step(reading, async (count) => {
      for (const operation of plan.volumes) {
        const { path, target, verb } = operation
        if (verb === 'leave') {
          receipts.leave(operation)
          continue
        }
        const volume = manifest.volumes.find((volume) => volume.path === path)!
        await readThrough(run, point, volume, count)
        receipts.line(path, target, verb, outcomeOf(operation), {
          rows: volume.files,
          fingerprint_then: volume.fingerprint,
        })
      }
    })
  } catch (error) {
    throw client.translate(error)
  } finally {
    client.close()
  }
}

async function readThrough(
  run: RunContext,
  point: OpenPoint,
  volume: VolumeManifest,
  count: (counter: string, by: number) => void,
): Promise<void> {
  for await (const { entry, content } of withContent(point.store, entriesOf(point.store, volume))) {
    run.signal.throwIfAborted()
    if (entry.type !== 'file') continue
    const hash = digesting()
    for await (const bytes of content) {
      hash.update(bytes)
      count('bytes', bytes.length)
    }
    count('files', 1)
    if (hash.digest('hex') === entry.digest) continue
    throw new VesselError('content_unequal', {
      what: `What the store holds of ${entry.path} in ${volume.path} does not have the checksum that was taken at capture.`,
      touched: 'Nothing was changed.',
      next: 'Restore from another point, and verify the store.',
    })
  }
}
