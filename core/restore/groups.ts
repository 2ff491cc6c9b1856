import type { DatabaseManifest, TableManifest } from '../content/manifest'
import type { Operation } from './plan'
import { thingKey } from './sql'

/** The tables with all partitions and sub-partitions of theirs, in the order of the manifest. */
export function familyOf(manifest: DatabaseManifest, tables: TableManifest[]): TableManifest[] {
  const key = (table: TableManifest) => thingKey(table.schema, table.name)
  const taken = new Set(tables.map(key))
  let grew = true
  while (grew) {
    grew = false
    for (const table of manifest.tables) {
      const parent = table.structure.partitionOf
      if (parent === null || taken.has(key(table)) || !taken.has(parent)) continue
      taken.add(key(table))
      grew = true
    }
  }
  return manifest.tables.filter((table) => taken.has(key(table)))
}

/**
 * Operations on tables that must succeed or fail together, because foreign keys or partitions bind them, each
 * group with referenced tables first. Positions refer to `operations`.
 */
export function groupByForeignKeys(manifest: DatabaseManifest, operations: Operation[]): number[][] {
  const tables = operations.flatMap((operation, index) => {
    if (operation.kind !== 'table' || operation.verb === 'leave') return []
    const table = manifest.tables.find((candidate) => candidate.path === operation.path)!
    return [{ index, oid: table.oid, name: thingKey(table.schema, table.name), parent: table.structure.partitionOf }]
  })
  const position = new Map(tables.map(({ oid }, i) => [oid, i]))
  const byName = new Map(tables.map(({ name }, i) => [name, i]))
  const edges: [number, number][] = []
  for (const entry of manifest.entries) {
    if (entry.type !== 'FK CONSTRAINT') continue
    const [from, to] = [position.get(entry.of ?? -1), position.get(entry.refers ?? -1)]
    if (from !== undefined && to !== undefined && from !== to) edges.push([from, to])
  }
  tables.forEach(({ parent }, i) => {
    const to = parent === null ? undefined : byName.get(parent)
    if (to !== undefined) edges.push([i, to])
  })
  return components(tables.length, edges).map((group) => referencedFirst(group, edges).map((i) => tables[i]!.index))
}

function components(count: number, edges: [number, number][]): number[][] {
  const leader = Array.from({ length: count }, (_, i) => i)
  const find = (i: number): number => (leader[i] === i ? i : (leader[i] = find(leader[i]!)))
  for (const [a, b] of edges) leader[find(a)] = find(b)
  const groups = new Map<number, number[]>()
  for (let i = 0; i < count; i++) groups.set(find(i), [...(groups.get(find(i)) ?? []), i])
  return [...groups.values()]
}

/** Depth-first order; a circle is cut at the table that comes first. */
function referencedFirst(group: number[], edges: [number, number][]): number[] {
  const order: number[] = []
  const seen = new Set<number>()
  const visit = (table: number) => {
    if (seen.has(table)) return
    seen.add(table)
    for (const [from, to] of edges) if (from === table) visit(to)
    order.push(table)
  }
  group.forEach(visit)
  return order
}
