import { plural } from '../../core/time/words'
import type { OpenPoint } from '../points/open'
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
    const lost = await index.lost(names.filter((name) => /^[0-9a-f]{64}$/.test(name)))
    return lost > 0 ? [blockerOf(path, lost)] : []
  }
  for (const { plan, manifest } of databases) {
    const wanted = new Set(plan.operations.filter(({ verb }) => verb !== 'leave').map(({ path }) => path))
    for (const { path, chunks } of [...manifest.tables, ...(manifest.largeObjects ? [manifest.largeObjects] : [])])
      if (wanted.has(path)) plan.blockers.unshift(...(await blocked({ path, names: chunks.map(({ name }) => name) })))
  }
  for (const { plan, manifest } of namespaces) {
    const wanted = new Set(plan.volumes.filter(({ verb }) => verb !== 'leave').map(({ path }) => path))
    for (const volume of manifest.volumes)
      if (wanted.has(volume.path)) plan.blockers.unshift(...(await blocked(await referredByVolume(point.store, volume))))
  }
}

const blockerOf = (path: string, lost: number) => ({
  code: 'content_lost',
  path,
  what: `${path} can’t come back from this point: ${plural(lost, 'chunk')} of it can’t be read in the store any more.`,
  next: 'Leave it out, or choose another point. A full of now stores anew what is the same.',
})
