import { dumpDifferences, type DumpDifference } from '../../core/compare/dump'
import { isWithin, pathOf } from '../../core/things/thing'
import { AS_A_WHOLE, DEFINITIONS } from '../../core/restore/receipt'
import { isTableEntry, rootsOf, type StructureEntry } from '../../core/restore/structure'
import { withClient } from '../sources/postgres/connect'
import { readStructure } from '../sources/postgres/utilities'
import { sqlFor } from '../sources/postgres/write-entry'
import type { RunContext } from './context'
import type { Receipts } from './receipts'
import type { PlannedDatabase } from './restore-plan'

/** How many differences a receipt lists. */
const LISTED = 50

/** What of the structure can be compared with the point: all of it, or the definitions of what was restored. */
export type Comparable = typeof AS_A_WHOLE | typeof DEFINITIONS

/**
 * All of a database that was restored whole; of another one what has no rows, since tables prove their structure by
 * themselves. Null where names are not its own, or where there is nothing of the kind.
 */
export function comparable({ source, manifest, wish, plan }: PlannedDatabase): Comparable | null {
  if (wish.into.mode === 'beside' || plan.operations.some(({ renamed }) => renamed)) return null
  const all = wish.picks.some((pick) => isWithin(pathOf(source, manifest.name), pick))
  if (all && wish.what === 'both') return AS_A_WHOLE
  const tables = new Set(manifest.tables.map(({ path }) => path))
  return plan.operations.some(({ verb, path }) => verb !== 'leave' && !tables.has(path)) ? DEFINITIONS : null
}

/**
 * The server's own dump of the structure is set beside the one in the point, statement by statement. What differs is on
 * the receipt; what could not be restored is told there already, with its reason.
 */
export async function proveStructure(run: RunContext, planned: PlannedDatabase, receipts: Receipts, what: Comparable): Promise<void> {
  const { source, access, database, manifest, target, serverVersion } = planned
  const things = expectedOf(planned, receipts.undone(), what)
  if (things.length === 0) return
  const path = pathOf(source, manifest.name, what)
  const place = `${access.name} / ${database}`
  const server = Math.floor(serverVersion / 10000)
  if (server !== target.version)
    return receipts.noted(path, place, `It was not compared: PostgreSQL ${target.version} writes some things otherwise than ${server} did.`)
  const now = await withClient(access, database, (client) => readStructure(access, database, client, { signal: run.signal }))
  const expected = things.map(({ entry }) => entry)
  const all = dumpDifferences(expected, now)
  const rights = rolesMapped(planned) ? ' Rights were not compared, because roles have other names here.' : ''
  const told = receipts.leftWords()
  const differences = all.filter(({ name }) => !told.some((words) => words.includes(name)))
  const known = all.length - differences.length
  if (differences.length === 0) {
    receipts.proven(new Set(things.flatMap(({ path, isTable }) => (isTable ? [] : [path]))))
    return receipts.compared(path, place, true, `${sameInWords(expected.length, known)}${rights}`)
  }
  const words = `${differences.length} of ${expected.length} statements are not the same as the server’s dump wrote them then.${rights}`
  receipts.compared(
    path,
    place,
    false,
    words,
    listed(differences).map(({ what, why }) => ({ what, why })),
  )
}

function sameInWords(statements: number, known: number): string {
  const same =
    statements === 1
      ? 'The one statement is the same as the server’s dump wrote it then'
      : `All ${statements} statements are the same as the server’s dump wrote them then`
  return known === 0 ? `${same}.` : `${same}, but for ${known} that ${known === 1 ? 'is' : 'are'} told with the things they belong to.`
}

const listed = (differences: DumpDifference[]) =>
  differences.length <= LISTED
    ? differences
    : [...differences.slice(0, LISTED), { what: `${differences.length - LISTED} more`, why: 'Compare the dumps of both.', name: '' }]

/** Rights of two roles that become one are written otherwise, and those of an owner not at all. */
const rolesMapped = ({ writing }: PlannedDatabase): boolean => Object.entries(writing.roles).some(([before, now]) => before !== now)

interface Expected {
  path: string
  isTable: boolean
  entry: StructureEntry
}

/** Entries of the point whose things were restored, as they are written at the target. */
function expectedOf(planned: PlannedDatabase, undone: Set<string>, what: Comparable): Expected[] {
  const { manifest, writing, plan } = planned
  const isMapped = rolesMapped(planned)
  const roots = rootsOf(manifest.entries, manifest.sequences)
  const byId = new Map(manifest.entries.map((entry) => [entry.id, entry]))
  const tables = new Map(manifest.tables.map((table) => [table.oid, table.path]))
  const paths = new Map(manifest.others.map(({ entry, path }) => [entry, path]))
  const left = new Set(plan.operations.filter(({ verb, same }) => verb === 'leave' && !same).map(({ path }) => path))
  const restored = new Set(plan.operations.filter(({ verb }) => verb !== 'leave').map(({ path }) => path))
  const roleOf = (role: string | null) => (role === null ? null : (writing.roles[role] ?? role))
  return manifest.entries.flatMap((entry) => {
    const root = byId.get(roots.get(entry.id)!)!
    const path = isTableEntry(root) ? tables.get(root.oid) : paths.get(root.id)
    // Tables prove their structure by themselves; a statement of ours says the same in other words than the dump's.
    if (path === undefined || undone.has(path) || left.has(path) || entry.made) return []
    if (isMapped && entry.type.endsWith('ACL')) return []
    if (what === DEFINITIONS && (isTableEntry(root) || !restored.has(path))) return []
    return [{ path, isTable: isTableEntry(root), entry: { ...entry, sql: sqlFor(entry, writing), owner: roleOf(entry.owner) } }]
  })
}
