import type pg from 'pg'
import type { OtherThing } from '../../core/content/manifest'
import { VesselError } from '../../core/errors'
import type { Operation } from '../../core/restore/plan'
import { baseName } from '../../core/restore/plan-others'
import { qualified, quoteIdentifier, quoteLiteral } from '../../core/restore/sql'
import { withParts, type StructureEntry } from '../../core/restore/structure'
import { definitionKey } from '../../core/restore/target'
import { commitSurely } from '../sources/postgres/commit'
import { silence } from '../sources/postgres/event-triggers'
import { untilGiven } from '../sources/postgres/locks'
import { dependentEntries, dropDependents, refreshFilled } from '../sources/postgres/rebuild'
import type { LeftPart } from '../sources/postgres/refill'
import { EntryWriter } from '../sources/postgres/write-entry'
import type { Overwritten } from './keep'
import type { Receipts } from './receipts'
import type { PlannedDatabase } from './restore-plan'

/** Makes or replaces one thing without rows, with all that belongs to it, in one transaction. */
export async function makeOther(
  client: pg.Client,
  planned: PlannedDatabase,
  operation: Operation,
  before: StructureEntry[],
  receipts: Receipts,
  keep: (overwritten: Overwritten) => Promise<void>,
): Promise<void> {
  let kept: Promise<void> | undefined
  // While locks are held by somebody it is tried again; what stands there is kept once.
  const keepOnce = (overwritten: Overwritten) => (kept ??= keep(overwritten))
  try {
    const left = await untilGiven(() => makeOnce(client, planned, operation, before, keepOnce))
    receipts.made(operation, left)
  } catch (error) {
    receipts.failed(operation, error instanceof VesselError ? error : notMade(operation, error as Error))
  }
}

async function makeOnce(
  client: pg.Client,
  planned: PlannedDatabase,
  operation: Operation,
  before: StructureEntry[],
  keep: (overwritten: Overwritten) => Promise<void>,
): Promise<LeftPart[]> {
  const left: LeftPart[] = []
  const writer = new EntryWriter(client, planned.writing, left)
  await client.query('begin')
  try {
    // No statement about event triggers fires one, and this one is to be switched as it was then.
    const restore = operation.kind === 'event-trigger' ? async () => undefined : await silence(client)
    if (operation.verb === 'replace') await replaceFirst(client, planned, operation, before, keep)
    if (operation.entries.length === 0) await client.query(`create schema ${quoteIdentifier(operation.target.name)}`)
    const isApart = APART.has(operation.kind)
    if (operation.kind === 'rights' && operation.verb === 'replace')
      await writer.resetInitial(planned.manifest.entries.find(({ id }) => id === operation.entries[0])!)
    for (const entry of withParts(planned.manifest.entries, operation.entries)) {
      const own = operation.entries.includes(entry.id)
      if (own && operation.kind === 'sequence' && operation.verb === 'replace') continue
      await writer.run(
        entry,
        own && entry.type !== 'DEFAULT ACL' && !isApart,
        own && operation.verb === 'replace' ? replacing(operation, writer.sqlOf(entry)) : undefined,
      )
    }
    await rebuildOver(client, planned, operation, before, writer)
    await setState(client, planned, operation)
    await restore()
    await commitSurely(client, planned.access, planned.database)
    return left
  } catch (error) {
    await client.query('rollback').catch(() => undefined)
    throw error
  }
}

const notMade = ({ kind, verb, target }: Operation, cause: Error) =>
  new VesselError('structure_failed', {
    what: `The ${kind.replaceAll('-', ' ')} ${target.name} could not be made: ${cause.message}.`,
    touched: verb === 'replace' ? 'It stands as it did before; everything else went on.' : 'It was not made; everything else went on.',
    next: 'Make what it needs, and bring it back again.',
    cause,
  })

/** Parts of things that a dump does not make; what fails of them is told. */
const APART = new Set(['rights', 'comment', 'security-label'])

/** A function keeps its place for what uses it. */
const replacing = ({ kind }: Operation, sql: string) =>
  kind === 'function' ? sql.replace(/^CREATE (FUNCTION|PROCEDURE|AGGREGATE)/, 'CREATE OR REPLACE $1') : sql

const DROPPED: Record<string, string> = {
  view: 'view',
  'materialized-view': 'materialized view',
  publication: 'publication',
  'event-trigger': 'event trigger',
}

async function replaceFirst(
  client: pg.Client,
  { manifest }: PlannedDatabase,
  operation: Operation,
  before: StructureEntry[],
  keep: (overwritten: Overwritten) => Promise<void>,
): Promise<void> {
  const then = manifest.entries.find((entry) => entry.id === operation.entries[0])!
  const now = before.find((entry) => definitionKey(entry) === definitionKey(then))
  if (now) await keep({ others: [{ path: operation.path, kind: operation.kind, entry: now.id } satisfies OtherThing] })
  await dropDependents(client, operation.rebuilds)
  const word = DROPPED[operation.kind]
  const { schema, name } = operation.target
  if (word) await client.query(`drop ${word} ${schema ? qualified(schema, name) : quoteIdentifier(name)}`)
}

/** Views that stood upon it come back as they were now. */
async function rebuildOver(
  client: pg.Client,
  planned: PlannedDatabase,
  operation: Operation,
  before: StructureEntry[],
  writer: EntryWriter,
): Promise<void> {
  if (operation.rebuilds.length === 0) return
  for (const entry of dependentEntries(before, operation.rebuilds)) {
    await writer.run(entry, undefined, entry.sql).catch((error: Error) => {
      throw new VesselError('dependent_failed', {
        what: `${entry.type.toLowerCase()} ${entry.schema}.${entry.name} stands upon ${operation.target.name}, and does not fit it as it was then: ${error.message}.`,
        touched: 'It was rolled back: what stood there before is as it was.',
        next: 'Bring it back under another name, or bring this one back too.',
        cause: error,
      })
    })
  }
  await refreshFilled(client, operation.rebuilds, planned.filled)
}

/** The position of a sequence, and the rows of a materialized view that held some. */
async function setState(client: pg.Client, { manifest, wish }: PlannedDatabase, operation: Operation): Promise<void> {
  const { schema, name } = operation.target
  const other = manifest.others.find((candidate) => candidate.path === operation.path)
  if (operation.kind === 'materialized-view' && other?.populated && wish.what !== 'structure')
    await client.query(`refresh materialized view ${qualified(schema, name)}`)
  if (operation.kind !== 'sequence') return
  const entry = manifest.entries.find(({ id }) => id === operation.entries[0])
  const sequence = manifest.sequences.find((s) => s.schema === entry?.schema && s.name === baseName(entry.name))
  if (sequence) await client.query(`select setval(${quoteLiteral(qualified(schema, name))}, ${sequence.last}, ${sequence.called})`)
}
