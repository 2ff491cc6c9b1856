import { renamingFor } from './naming'
import type { DatabasePlan, Operation } from './plan'
import { baseName } from './plan-others'
import { noRenaming, thingKey, type Renaming } from './sql'
import { isOfPublication, isTableEntry, withParts, type StructureEntry } from './structure'
import type { DatabaseManifest, TableManifest } from '../content/manifest'
import type { TargetState } from './target'

export interface GroupMember {
  operation: Operation
  table: TableManifest
}

interface Planned {
  manifest: DatabaseManifest
  target: TargetState
  plan: DatabasePlan
}

export function membersOf({ plan, manifest }: Planned, tables: number[]): GroupMember[] {
  const byPath = new Map(manifest.tables.map((table) => [table.path, table]))
  return tables.map((i) => ({ operation: plan.operations[i]!, table: byPath.get(plan.operations[i]!.path)! }))
}

/** The new names of everything that is not made under its own, for all statements of a database's restore. */
export function renamingOf(planned: Planned): Renaming {
  const { plan, manifest, target } = planned
  const moved = plan.operations.filter((operation) => operation.renamed && operation.verb !== 'leave')
  if (moved.length === 0) return noRenaming()
  const tables = moved.flatMap((operation, i) =>
    operation.kind === 'table' ? membersOf({ plan: { ...plan, operations: moved }, manifest, target }, [i]) : [],
  )
  const placements = tables.map(({ operation, table }) => ({ table, target: operation.target }))
  const renaming = renamingFor(placements, manifest.sequences, (schema, name) => target.relations.has(thingKey(schema, name)))
  const byId = new Map(manifest.entries.map((entry) => [entry.id, entry]))
  for (const operation of moved) {
    const entry = byId.get(operation.entries[0] ?? -1)
    if (!entry || operation.kind === 'table') continue
    renaming.things.set(thingKey(entry.schema ?? '', baseName(entry.name)), {
      schema: operation.target.schema,
      name: baseName(operation.target.name),
    })
    renameIndexesOf(entry, planned, operation, renaming)
  }
  return renaming
}

/** Indexes of a materialized view lie in its schema, under names of their own. */
function renameIndexesOf(view: StructureEntry, { manifest, target }: Planned, operation: Operation, renaming: Renaming): void {
  if (view.type !== 'MATERIALIZED VIEW') return
  for (const { name, of } of manifest.entries.filter(({ type }) => type === 'INDEX')) {
    if (of !== view.oid) continue
    const to = `${operation.target.name}_${name}`.slice(0, 60)
    if (target.relations.has(thingKey(operation.target.schema, to))) continue
    renaming.indexes.set(name, to)
    renaming.things.set(thingKey(view.schema ?? '', name), { schema: operation.target.schema, name: to })
  }
}

/** Everything that belongs to the tables that are made, and to what is made in their midst, in the order of the dump. */
export function entriesToRun(planned: Planned, members: GroupMember[], inner: Operation[] = []): StructureEntry[] {
  const { manifest, target } = planned
  const made = members.filter(({ operation }) => operation.how === 'create' || operation.how === 'rebuild')
  const beside = members.some(({ operation }) => operation.renamed)
  const oids = new Set(made.map(({ table }) => table.oid))
  const names = new Set(made.map(({ table }) => thingKey(table.schema, table.name)))
  const owned = new Set(
    manifest.sequences.filter((s) => s.ownedBy && names.has(thingKey(...s.ownedBy))).map((s) => thingKey(s.schema, s.name)),
  )
  const remade = new Set(members.flatMap(({ operation }) => operation.rebuilds.map(({ key }) => key)))
  const isRoot = (entry: StructureEntry) =>
    (isTableEntry(entry) && oids.has(entry.oid)) || (entry.type === 'SEQUENCE' && owned.has(thingKey(entry.schema ?? '', entry.name)))
  const standing = beside
    ? []
    : manifest.entries.filter((entry) => {
        const key = thingKey(entry.schema ?? '', entry.name)
        return isTableEntry(entry) ? target.tables.has(key) : entry.type === 'FOREIGN TABLE' && target.others.has(key) && !remade.has(key)
      })
  const standingOids = new Set(standing.map(({ oid }) => oid))
  const roots = [...manifest.entries.filter(isRoot).map((entry) => entry.id), ...inner.flatMap(({ entries }) => entries)]
  const taken = withParts(manifest.entries, roots, new Set(standing.map((entry) => entry.id))).filter(
    // A copy beside the original has its own foreign keys; those of others stay with the original, and only such
    // come back as stand at the target.
    (entry) => entry.type !== 'FK CONSTRAINT' || oids.has(entry.of ?? -1) || (!beside && standingOids.has(entry.of ?? -1)),
  )
  return beside ? taken : [...taken, ...membershipsOf(planned, oids)]
}

/** In which publications tables were that are made again; a publication that is made later brings its members itself. */
function membershipsOf({ manifest, plan }: Planned, oids: Set<number>): StructureEntry[] {
  const coming = publicationsMade(plan)
  return manifest.entries.filter(
    (entry) => isOfPublication(entry) && oids.has(entry.refers ?? -1) && !entry.needs.some((id) => coming.has(id)),
  )
}

/** Entries of publications that are made or made again, with all their members. */
export const publicationsMade = ({ operations }: DatabasePlan): Set<number> =>
  new Set(operations.flatMap(({ kind, how, entries }) => (kind === 'publication' && how !== null && how !== 'refill' ? entries : [])))
