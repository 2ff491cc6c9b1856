import type pg from 'pg'
import { VesselError } from '../../core/errors'
import { partsByRoot } from '../../core/restore/other-mends'
import { thingKey } from '../../core/restore/sql'
import { tableIds, withParts, type StructureEntry } from '../../core/restore/structure'
import { definitionKey } from '../../core/restore/target'
import type { EntryWriter } from '../sources/postgres/write-entry'
import type { PlannedDatabase } from './restore-plan'

/**
 * Makes what stood upon something that was made again, each as it was now. Where that does not fit what is there again,
 * and the plan brings it back too, as it was then; or not yet, and its own operation makes it when all that it needs is
 * there.
 *
 * @param entries of a dump of now, from before they were dropped
 * @param upon what they stand upon, in words
 * @returns keys (`thingKey`) of those that were not made yet
 * @throws VesselError `dependent_failed` for one that fits in no way; the caller's transaction has to end
 */
export async function makeDependents(
  client: pg.Client,
  planned: PlannedDatabase,
  writer: EntryWriter,
  entries: StructureEntry[],
  upon: string,
): Promise<Set<string>> {
  const { manifest, plan } = planned
  const tables = tableIds(manifest.entries)
  const gone = new Set<string>()
  for (const parts of partsByRoot(entries, []).values()) {
    const part = parts[0]!
    const error = await attemptEntries(client, writer, parts, ({ sql }) => sql)
    if (!error) continue
    const before = manifest.entries.find((entry) => definitionKey(entry) === definitionKey(part))
    const comesBack =
      before &&
      plan.operations.some(
        (operation) => operation.verb === 'replace' && operation.how === 'rebuild' && operation.entries.includes(before.id),
      )
    if (!comesBack) throw dependentFailed(part, upon, error)
    const failed = await attemptEntries(client, writer, withParts(manifest.entries, [before.id], tables), (entry) => writer.sqlOf(entry))
    if (failed) gone.add(thingKey(part.schema ?? '', part.name))
  }
  return gone
}

const dependentFailed = ({ type, schema, name }: StructureEntry, upon: string, cause: Error) =>
  new VesselError('dependent_failed', {
    what: `${type.toLowerCase()} ${schema}.${name} stands upon ${upon}, and does not fit it as it was then: ${cause.message}.`,
    touched: 'It was rolled back: what stood there before is as it was.',
    next: 'Bring it back under another name, or bring this one back too.',
    cause,
  })

/** Runs entries; where one fails, none of them was run, and the transaction goes on. */
async function attemptEntries(
  client: pg.Client,
  writer: EntryWriter,
  entries: StructureEntry[],
  sqlOf: (entry: StructureEntry) => string,
): Promise<Error | null> {
  const before = writer.unrestored.length
  await client.query('savepoint dependent')
  try {
    for (const entry of entries) await writer.run(entry, undefined, sqlOf(entry))
    await client.query('release savepoint dependent')
    return null
  } catch (error) {
    await client.query('rollback to savepoint dependent')
    writer.unrestored.length = before
    return error as Error
  }
}
