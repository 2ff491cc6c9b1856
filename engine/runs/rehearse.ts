import { namesOfChunks, type Chunks } from '../../core/content/chunk-list'
import { RowChunker } from '../../core/content/rows'
import { VesselError } from '../../core/errors'
import { translate, withClient } from '../sources/postgres/connect'
import { lockAll } from '../sources/postgres/locks'
import type { Store } from '../store/store'
import type { RunContext } from './context'
import type { Receipts } from './receipts'
import { lockStatement } from './restore-group'
import type { PlannedDatabase } from './restore-plan'

/** A rehearsal asks for locks no longer than this. */
const REHEARSED_LOCK_MS = 2000

type Count = (counter: string, by: number) => void

/** Reads all content that would be needed and proves it; asks for the locks and gives them back. */
export async function rehearseDatabase(run: RunContext, planned: PlannedDatabase, store: Store, receipts: Receipts): Promise<void> {
  const { access, database, manifest, plan, target, wish } = planned
  const member = `${access.name} / ${database}`
  const content = await run.plan({ kind: 'content', member, title: 'Content can be read' })
  const locks = await run.plan({ kind: 'locks', member, title: 'Locks are given' })
  const holders = new Map([...manifest.tables, ...(manifest.largeObjects ? [manifest.largeObjects] : [])].map((held) => [held.path, held]))
  await run.step(content, async (count) => {
    for (const operation of plan.operations) {
      const held = holders.get(operation.path)
      if (operation.verb === 'leave') receipts.left(operation, operation.notes[0] ?? '')
      else if (!held || wish.what === 'structure') receipts.rehearsed(operation, null)
      else receipts.rehearsed(operation, await readThrough(run, store, held, count))
    }
  })
  await run.step(locks, async () => {
    const standing = plan.operations.filter(({ verb, kind }) => kind === 'table' && (verb === 'replace' || verb === 'merge'))
    if (!target.exists || standing.length === 0) return
    await withClient(access, database, async (client) => {
      await client.query('begin')
      const statements = standing.map(({ target: to, verb }) => lockStatement(to, verb === 'merge'))
      await lockAll(client, statements, REHEARSED_LOCK_MS).catch((error: unknown) => {
        throw translate(error, access, database)
      })
      await client.query('rollback')
    })
  })
}

async function readThrough(
  run: RunContext,
  store: Store,
  held: { path: string; fingerprint: string; chunks: Chunks },
  count: Count,
): Promise<string> {
  const chunker = new RowChunker()
  let index = 0
  for await (const bytes of store.readAll(namesOfChunks(held.chunks))) {
    run.signal.throwIfAborted()
    const cutting = chunker.push(bytes)
    while (!cutting.next().done);
    count('rows', held.chunks.at(index++)!.rows)
    count('bytes', bytes.length)
  }
  const { fingerprint } = chunker.tally()
  if (fingerprint === held.fingerprint) return fingerprint
  throw new VesselError('content_unequal', {
    what: `What the store holds of ${held.path} does not have the fingerprint that was taken at capture.`,
    touched: 'Nothing was changed.',
    next: 'Restore from another point, and verify the store.',
  })
}
