import { dumpDifferences, type DumpDifference } from '../../core/compare/dump'
import { isWithin, pathOf } from '../../core/things/thing'
import { isTableEntry, rootsOf, type StructureEntry } from '../../core/restore/structure'
import { withClient } from '../sources/postgres/connect'
import { readStructure } from '../sources/postgres/utilities'
import { sqlFor } from '../sources/postgres/write-entry'
import type { RunContext } from './context'
import type { Receipts } from './receipts'
import type { PlannedDatabase } from './restore-plan'

/** How many differences a receipt lists. */
const LISTED = 50

/** Whether all of a database was restored to where its names are its own, so that its structure can be compared as a whole. */
export function isWhole({ source, manifest, wish, plan }: PlannedDatabase): boolean {
  const all = wish.picks.some((pick) => isWithin(pathOf(source, manifest.name), pick))
  return all && wish.what === 'both' && wish.into.mode !== 'beside' && plan.operations.every(({ renamed }) => !renamed)
}

/**
 * After a whole restore the server's own dump of the structure is set beside the one in the point, statement by
 * statement. What differs is on the receipt; what could not be restored is told there already, with its reason.
 */
export async function proveStructure(run: RunContext, planned: PlannedDatabase, receipts: Receipts): Promise<void> {
  const { source, access, database, manifest, target, serverVersion } = planned
  const path = pathOf(source, manifest.name, 'structure as a whole')
  const place = `${access.name} / ${database}`
  const server = Math.floor(serverVersion / 10000)
  if (server !== target.version)
    return receipts.line(path, place, 'compare', 'left', {
      reason: `It was not compared as a whole: PostgreSQL ${target.version} writes some things otherwise than ${server} did.`,
      equal: true,
    })
  const now = await withClient(access, database, (client) => readStructure(access, database, client, { signal: run.signal }))
  const expected = expectedOf(planned, receipts.undone())
  const all = dumpDifferences(expected, now)
  const told = receipts.leftWords()
  const differences = all.filter(({ name }) => !told.some((words) => words.includes(name)))
  const known = all.length - differences.length
  if (differences.length === 0)
    return receipts.line(path, place, 'compare', 'left', {
      reason: `All ${expected.length} statements are the same as the server’s dump wrote them then${known > 0 ? `, but for ${known} that ${known === 1 ? 'is' : 'are'} told with the things they belong to` : ''}.`,
      equal: true,
    })
  receipts.line(path, place, 'compare', 'left', {
    reason: `${differences.length} of ${expected.length} statements are not the same as the server’s dump wrote them then.`,
    equal: false,
    left_parts: listed(differences).map(({ what, why }) => ({ what, why })),
  })
}

const listed = (differences: DumpDifference[]) =>
  differences.length <= LISTED
    ? differences
    : [...differences.slice(0, LISTED), { what: `${differences.length - LISTED} more`, why: 'Compare the dumps of both.', name: '' }]

/** Entries of the point whose things were restored, as they are written at the target. */
function expectedOf({ manifest, writing, plan }: PlannedDatabase, undone: Set<string>): StructureEntry[] {
  const roots = rootsOf(manifest.entries, manifest.sequences)
  const byId = new Map(manifest.entries.map((entry) => [entry.id, entry]))
  const tables = new Map(manifest.tables.map((table) => [table.oid, table.path]))
  const paths = new Map(manifest.others.map(({ entry, path }) => [entry, path]))
  const left = new Set(plan.operations.filter(({ verb, same }) => verb === 'leave' && !same).map(({ path }) => path))
  const roleOf = (role: string | null) => (role === null ? null : (writing.roles[role] ?? role))
  return manifest.entries.flatMap((entry) => {
    const root = byId.get(roots.get(entry.id)!)!
    const path = isTableEntry(root) ? tables.get(root.oid) : paths.get(root.id)
    // Tables prove their structure by themselves; a statement of ours says the same in other words than the dump's.
    if (path === undefined || undone.has(path) || left.has(path) || entry.made) return []
    return [{ ...entry, sql: sqlFor(entry, writing), owner: roleOf(entry.owner) }]
  })
}
