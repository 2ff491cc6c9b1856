import { namesOfChunks } from '../../core/content/chunk-list'
import type pg from 'pg'
import { VesselError } from '../../core/errors'
import type { Operation } from '../../core/restore/plan'
import { commitSurely } from '../sources/postgres/commit'
import { silence } from '../sources/postgres/event-triggers'
import { restoreLargeObjects } from '../sources/postgres/large-objects'
import type { Store } from '../store/store'
import type { Overwritten } from './keep'
import type { Receipts } from './receipts'
import type { PlannedDatabase } from './restore-plan'

/** Puts large objects back in one transaction, proven; those that are overwritten are kept first. */
export async function putLargeObjects(
  client: pg.Client,
  { access, database, manifest, target, writing, confirm }: PlannedDatabase,
  store: Store,
  operation: Operation,
  receipts: Receipts,
  count: (counter: string, by: number) => void,
  keep: (overwritten: Overwritten) => Promise<void>,
): Promise<void> {
  const large = manifest.largeObjects!
  const standing = large.objects.map(({ oid }) => oid).filter((oid) => target.largeObjects.has(oid))
  const roleOf = (role: string) => {
    const name = writing.roles[role] ?? role
    return target.roles.has(name) ? name : null
  }
  await client.query('begin')
  try {
    const restore = await silence(client)
    if (operation.verb === 'replace') await keep({ largeObjects: standing })
    const chunks = store.readAll(namesOfChunks(large.chunks))
    const outcome = await restoreLargeObjects(client, large, chunks, {
      skip: new Set(operation.verb === 'merge' ? standing : []),
      roles: roleOf,
      loaded: (bytes, i) => (count('rows', large.chunks.at(i)!.rows), count('bytes', bytes)),
    })
    if (outcome.before !== outcome.now) throw unequal()
    await restore()
    await commitSurely(client, { access, database, confirm })
    receipts.made(operation, outcome.unrestored, {
      rows: large.objects.length - (operation.verb === 'merge' ? standing.length : 0),
      fingerprint_then: outcome.before,
      fingerprint_now: outcome.now,
      equal: true,
    })
  } catch (error) {
    await client.query('rollback').catch(() => undefined)
    throw error
  }
}

function unequal(): VesselError {
  return new VesselError('not_equal', {
    what: 'The large objects do not hold the bytes of the backup after they were put back.',
    touched: 'The transaction was rolled back: they are as they were before.',
    next: 'Verify the store, and bring them back from another point.',
  })
}
