import type pg from 'pg'
import type { DatabaseManifest } from '../../core/content/manifest'
import { isViewDefinition } from '../../core/restore/circles'
import { VesselError } from '../../core/errors'
import type { Operation } from '../../core/restore/plan'
import { baseName } from '../../core/restore/plan-others'
import { qualified, quoteIdentifier, quoteLiteral } from '../../core/restore/sql'
import { alteredSequence } from '../../core/restore/other-mends'
import { droppedBy } from '../../core/restore/drop'
import { isOfPublication, tableIds, withParts, type StructureEntry } from '../../core/restore/structure'
import { definitionKey, type Dependent } from '../../core/restore/target'
import { commitSurely } from '../sources/postgres/commit'
import { silence } from '../sources/postgres/event-triggers'
import { untilGiven } from '../sources/postgres/locks'
import { dependentEntries, dropDependents, refreshFilled } from '../sources/postgres/rebuild'
import type { UnrestoredPart } from '../sources/postgres/refill'
import { EntryWriter } from '../sources/postgres/write-entry'
import { publicationsMade } from '../../core/restore/entries'
import { makeDependents } from './make-dependents'
import type { Receipts } from './receipts'
import type { PlannedDatabase } from './restore-plan'

/** An operation with what stands upon its thing now, and the structure of now. */
export interface Standing {
  operation: Operation
  rebuilds: Dependent[]
  before: StructureEntry[]
}

/** Makes or replaces one thing without rows, with all that belongs to it, in one transaction. */
export async function makeOther(
  client: pg.Client,
  planned: PlannedDatabase,
  standing: Standing,
  receipts: Pick<Receipts, 'made' | 'failed'>,
): Promise<void> {
  const { operation } = standing
  try {
    const unrestored = await untilGiven(() => makeOnce(client, planned, standing))
    receipts.made(operation, unrestored)
  } catch (error) {
    receipts.failed(operation, error instanceof VesselError ? error : notMade(operation, error as Error))
  }
}

async function makeOnce(client: pg.Client, planned: PlannedDatabase, standing: Standing): Promise<UnrestoredPart[]> {
  const { operation } = standing
  const unrestored: UnrestoredPart[] = []
  const writer = new EntryWriter(client, planned.writing, unrestored)
  await client.query('begin')
  try {
    // No statement about event triggers fires one, and this one is to be switched as it was then.
    const restore = operation.kind === 'event-trigger' ? async () => undefined : await silence(client)
    if (operation.verb === 'replace') await replaceFirst(client, planned, standing)
    if (operation.kind === 'schema' && operation.entries.length === 0)
      await client.query(`create schema ${quoteIdentifier(operation.target.name)}`)
    if (operation.kind === 'rights' && operation.how === 'rebuild')
      await writer.resetInitial(planned.manifest.entries.find(({ id }) => id === operation.entries[0])!)
    if (operation.how !== 'refill') await runEntries(client, planned, standing, writer)
    if (operation.kind === 'schema' && operation.verb === 'make') await publishAgain(planned, operation, writer)
    for (const mend of operation.mends) await writer.mend(mend, operation.target.name)
    await setState(client, planned, operation)
    await rebuildOver(client, planned, standing, writer)
    await restore()
    await commitSurely(client, planned)
    return unrestored
  } catch (error) {
    await client.query('rollback').catch(() => undefined)
    throw error
  }
}

async function runEntries(
  client: pg.Client,
  { manifest }: PlannedDatabase,
  { operation, before }: Standing,
  writer: EntryWriter,
): Promise<void> {
  const isApart = APART.has(operation.kind)
  const stands = operation.verb === 'replace' && STANDS.has(operation.kind)
  for (const entry of withParts(manifest.entries, operation.entries, tableIds(manifest.entries))) {
    const isPlanned = operation.entries.includes(entry.id)
    // What stands keeps its owner, rights and comments, which the plan's mends make equal.
    if (operation.later.includes(entry.id) || (stands && !isPlanned)) continue
    if (stands) {
      const now = before.find((candidate) => definitionKey(candidate) === definitionKey(entry))
      if (now?.sql !== entry.sql) await client.query(replacing(operation, writer.sqlOf(entry)))
      continue
    }
    await writer.run(entry, (isPlanned && entry.type !== 'DEFAULT ACL' && !isApart) || isViewDefinition(entry))
  }
}

/** In which publications a schema was that is made again; one that is made later brings its members itself. */
async function publishAgain({ manifest, plan }: PlannedDatabase, { entries: [needed] }: Operation, writer: EntryWriter): Promise<void> {
  const coming = publicationsMade(plan)
  for (const entry of manifest.entries)
    if (isOfPublication(entry) && entry.needs.includes(needed!) && !entry.needs.some((id) => coming.has(id))) await writer.run(entry)
}

/** Gives a view its definition that had to wait for what needs the view. */
export async function defineLate(client: pg.Client, planned: PlannedDatabase, { later }: Operation): Promise<UnrestoredPart[]> {
  const unrestored: UnrestoredPart[] = []
  const writer = new EntryWriter(client, planned.writing, unrestored)
  await client.query('begin')
  const restore = await silence(client)
  for (const entry of planned.manifest.entries) if (later.includes(entry.id)) await writer.run(entry, false)
  await restore()
  await commitSurely(client, planned)
  return unrestored
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

/** A function or sequence keeps its place for what uses it. */
const STANDS = new Set(['function', 'sequence'])
const replacing = ({ kind }: Operation, sql: string) =>
  kind === 'sequence' ? alteredSequence(sql) : sql.replace(/^CREATE (FUNCTION|PROCEDURE|AGGREGATE)/, 'CREATE OR REPLACE $1')

async function replaceFirst(client: pg.Client, { manifest }: PlannedDatabase, { operation, rebuilds, before }: Standing): Promise<void> {
  if (operation.how === 'refill') return
  const now = before.find((entry) => definitionKey(entry) === keyOf(operation, manifest))
  await dropDependents(client, rebuilds)
  if (!now || STANDS.has(operation.kind) || APART.has(operation.kind)) return
  for (const statement of droppedBy(now)) await client.query(statement)
}

/** By what the thing of an operation is told in a dump; rights that the point knows nothing of have no entry there. */
export function keyOf(operation: Operation, { entries }: DatabaseManifest): string {
  const before = entries.find(({ id }) => id === operation.entries[0])
  return before ? definitionKey(before) : JSON.stringify(['ACL', operation.target.schema || null, operation.target.name])
}

/** Views that stood upon it come back. */
async function rebuildOver(
  client: pg.Client,
  planned: PlannedDatabase,
  { operation, rebuilds, before }: Standing,
  writer: EntryWriter,
): Promise<void> {
  if (rebuilds.length === 0) return
  const gone = await makeDependents(client, planned, writer, dependentEntries(before, rebuilds), operation.target.name)
  await refreshFilled(client, rebuilds, planned.filled, gone)
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
