import type { DatabaseManifest, Missing } from '../content/manifest'
import { pathOf } from '../things/thing'
import { entriesToRun, membersOf } from './entries'
import { kindOf } from './kinds'
import { planRestore, type DatabasePlan, type Operation } from './plan'
import { entryWords, isBeforeRows, isTableEntry, rootsOf, tableIds, withParts, type StructureEntry } from './structure'
import { emptyTarget, type TargetState } from './target'
import { wishOf } from './wish'

/**
 * A restore of all of a database without doing it: in which order its structure would be made, at a server that has all
 * that it may need. What no restore would make, or only before something that it needs, is told when the backup is
 * made, and not when it is wanted back.
 *
 * @param serverVersion of the server that it was taken from, such as 150018
 */
export function judgeStructure(source: string, manifest: DatabaseManifest, serverVersion: number): Missing[] {
  if (manifest.entries.length === 0) return []
  const target = everything(manifest, Math.floor(serverVersion / 10000))
  const wish = wishOf({ picks: [pathOf(source, manifest.name)], into: { mode: 'elsewhere', source, database: manifest.name } })
  const into = { source, database: manifest.name }
  const plan = planRestore({ source, manifest, serverVersion, target, into, wish, at: new Date(manifest.at) })
  const blocked = plan.blockers.filter(({ code }) => code !== 'no_space').map(({ path, what }) => ({ path, reason: what, note: true }))
  return [...blocked, ...outOfOrder(source, manifest, orderOf(plan, manifest, target))]
}

/** A server that has every role, extension and tablespace, and lets all of it be made. */
function everything({ entries, roles = [], tables }: DatabaseManifest, version: number): TargetState {
  const owners = [...entries.flatMap(({ owner }) => owner ?? []), ...tables.map(({ structure }) => structure.owner)]
  const extensions = entries.flatMap(({ type, name }) => (type === 'EXTENSION' ? [name] : []))
  return emptyTarget({
    roles: new Set([...roles.map(({ name }) => name), ...owners]),
    memberOf: new Set(),
    tablespaces: new Set(entries.flatMap(({ tablespace }) => tablespace ?? [])),
    available: new Set(extensions),
    trusted: new Set(extensions),
    may: { create: true, createDatabase: true, createRole: true, superuser: true, readLargeObjects: true },
    version,
    free: null,
  })
}

/** The entries that a restore by the plan runs, in its order. */
function orderOf(plan: DatabasePlan, manifest: DatabaseManifest, target: TargetState): StructureEntry[] {
  const planned = { plan, manifest, target }
  const tables = tableIds(manifest.entries)
  const inner = new Set(plan.groups.flatMap((group) => group.inner))
  const alone = (when: Operation['when']) => {
    const due = plan.operations.filter(
      (operation, i) => operation.kind !== 'table' && operation.verb !== 'leave' && operation.when === when && !inner.has(i),
    )
    const parts = due.flatMap(({ entries, later }) => withParts(manifest.entries, entries, tables).filter(({ id }) => !later.includes(id)))
    const late = new Set(due.flatMap(({ later }) => later))
    return [...parts, ...manifest.entries.filter(({ id }) => late.has(id))]
  }
  const groups = (late: boolean) =>
    plan.groups
      .filter((group) => group.late === late)
      .flatMap((group) => {
        const inside = group.inner.map((i) => plan.operations[i]!)
        const entries = entriesToRun(planned, membersOf(planned, group.tables), inside)
        return [...entries.filter(isBeforeRows), ...entries.filter((entry) => !isBeforeRows(entry))]
      })
  return [...alone('before'), ...groups(false), ...alone('after'), ...groups(true), ...alone('last')]
}

function outOfOrder(source: string, manifest: DatabaseManifest, order: StructureEntry[]): Missing[] {
  const at = new Map<number, number>()
  order.forEach(({ id }, i) => at.has(id) || at.set(id, i))
  const byId = new Map(manifest.entries.map((entry) => [entry.id, entry]))
  const roots = rootsOf(manifest.entries, manifest.sequences)
  const pathFor = (entry: StructureEntry) => {
    const root = byId.get(roots.get(entry.id)!) ?? entry
    const known = manifest.others.find((other) => other.entry === root.id)?.path
    return known ?? pathOf(source, manifest.name, ...(root.schema === null ? [] : [root.schema]), root.name)
  }
  const oids = new Set(manifest.tables.map(({ oid }) => oid))
  const held = new Set(manifest.others.map(({ entry }) => entry))
  /** What the rules leave is no loss; what no kind is known for may be one. */
  const isLeft = (root: StructureEntry) =>
    isTableEntry(root) ? !oids.has(root.oid) : kindOf(root) !== undefined && root.type !== 'SCHEMA' && !held.has(root.id)
  return manifest.entries.flatMap((entry): Missing[] => {
    if (isLeft(byId.get(roots.get(entry.id)!) ?? entry)) return []
    const position = at.get(entry.id)
    if (position === undefined)
      return [{ path: pathFor(entry), reason: `It would not come back whole: no restore makes the ${entryWords(entry)}.`, note: true }]
    const first = entry.needs.find((id) => (at.get(id) ?? -1) > position)
    if (first === undefined) return []
    const reason = `It may not come back: the ${entryWords(entry)} needs the ${entryWords(byId.get(first)!)}, which a restore makes after it.`
    return [{ path: pathFor(entry), reason, note: true }]
  })
}
