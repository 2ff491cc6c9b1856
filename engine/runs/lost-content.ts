import { plural } from '../../core/time/words'
import type { DatabaseManifest, Missing } from '../../core/content/manifest'
import { chunksOf, type OpenPoint } from '../points/open'
import type { PlannedWish } from './restore-plan'
import { referredByVolume, type Referred } from './referred'

/**
 * Tells what of a plan can't come back because its content can't be read any more. It is asked of the index as it is now: a
 * full that was made since may have stored it anew.
 */
export async function blockLost(point: OpenPoint, { databases, namespaces }: PlannedWish): Promise<void> {
  const { index } = point.store
  if (!(await index.hasDamage())) return
  const blocked = async ({ path, names }: Referred) => {
    const lost = await index.lost(names)
    return lost > 0 ? [blockerOf(path, lost)] : []
  }
  for (const { plan, manifest } of databases) {
    const wanted = new Set(plan.operations.filter(({ verb }) => verb !== 'leave').map(({ path }) => path))
    for (const refers of referredByDatabase(point, manifest)) if (wanted.has(refers.path)) plan.blockers.unshift(...(await blocked(refers)))
  }
  for (const { plan, manifest } of namespaces) {
    const wanted = new Set(plan.volumes.filter(({ verb }) => verb !== 'leave').map(({ path }) => path))
    for (const volume of manifest.volumes.filter(({ path }) => wanted.has(path))) {
      let lost = 0
      for await (const { names } of referredByVolume(point.store, volume)) lost += await index.lost(names)
      if (lost > 0) plan.blockers.unshift(blockerOf(volume.path, lost))
    }
  }
}

function referredByDatabase(point: OpenPoint, { tables, largeObjects }: DatabaseManifest): Referred[] {
  const rows = tables.map((table) => ({ path: table.path, names: point.restsUpon(table) }))
  return largeObjects ? [...rows, { path: largeObjects.path, names: chunksOf(largeObjects) }] : rows
}

/** What of a point or a moment can't be read in the store any more, with the reason. */
export async function lostOf(point: OpenPoint): Promise<Missing[]> {
  const { index } = point.store
  if (!(await index.hasDamage())) return []
  const lost: Missing[] = []
  for (const { manifest } of point.members)
    for (const database of manifest.databases)
      for (const { path, names } of referredByDatabase(point, database)) {
        const count = await index.lost(names)
        if (count > 0) lost.push({ path, reason: `${plural(count, 'chunk')} of it can’t be read in the store any more.` })
      }
  return lost
}

const blockerOf = (path: string, lost: number) => ({
  code: 'content_lost',
  path,
  what: `${path} can’t come back from this point: ${plural(lost, 'chunk')} of it can’t be read in the store any more.`,
  next: 'Leave it out, or choose another point. A full of now stores anew what is the same.',
})
