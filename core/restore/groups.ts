import type { DatabaseManifest, TableManifest } from '../content/manifest'
import type { Operation } from './plan'
import { thingKey } from './sql'
import { isTableEntry, needsByRoot, rootsOf } from './structure'

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

/** What succeeds or fails together: tables in loading order, and things without rows that stand between them. */
export interface Group {
  tables: number[]
  inner: number[]
  /** Rows of it name other things, so that it comes when all else is there. */
  late: boolean
}

/**
 * Operations on tables that must succeed or fail together, because foreign keys, partitions, inheritance, or a
 * function between them binds them; each group with referenced tables first. Positions refer to `tables` and
 * `others`.
 */
export function groupTables(manifest: DatabaseManifest, tables: Operation[], others: Operation[]): Group[] {
  const active = tables.flatMap((operation, index) => (operation.verb === 'leave' ? [] : [{ index, operation }]))
  const byPath = new Map(manifest.tables.map((table) => [table.path, table]))
  const members = active.map(({ operation }) => byPath.get(operation.path)!)
  const graph = new Between(manifest, members, others)
  const edges = [...referencesOf(manifest, members), ...graph.edges()]
  const types = new RemadeTypes(
    manifest,
    active.map(({ operation }) => operation),
    members,
    others,
  )
  const groups = components(members.length, [...edges, ...types.ties()])
  const namesOthers = (group: number[]) => group.some((i) => holdsNames(members[i]!))
  // Of those that name others, the ones that make something come first: it may be what the rest name.
  const makes = (group: number[]) => group.some((i) => active[i]!.operation.how !== 'refill')
  const naming = groups.filter(namesOthers)
  const ordered = [...groups.filter((group) => !namesOthers(group)), ...naming.filter(makes), ...naming.filter((group) => !makes(group))]
  return ordered.map((group) => ({
    tables: referencedFirst(group, edges).map((i) => active[i]!.index),
    inner: [...graph.innerOf(new Set(group)), ...types.innerOf(new Set(group))].sort((a, b) => a - b),
    late: namesOthers(group) && !graph.isNeeded(new Set(group)),
  }))
}

/** Types whose values are names of things, which have to be there when rows with them are loaded. */
const NAMES = /^(pg_catalog\.)?reg(class|proc|procedure|type|oper|operator|config|dictionary|collation)(\[\])*$/

/** Whether rows of a table name other things, so that it comes last. */
export const holdsNames = ({ structure }: TableManifest): boolean => structure.columns.some(({ type, base }) => NAMES.test(base ?? type))

function referencesOf(manifest: DatabaseManifest, tables: TableManifest[]): [number, number][] {
  const position = new Map(tables.map(({ oid }, i) => [oid, i]))
  const byName = new Map(tables.map(({ schema, name }, i) => [thingKey(schema, name), i]))
  const edges: [number, number][] = []
  for (const entry of manifest.entries) {
    if (entry.type !== 'FK CONSTRAINT') continue
    const [from, to] = [position.get(entry.of ?? -1), position.get(entry.refers ?? -1)]
    if (from !== undefined && to !== undefined && from !== to) edges.push([from, to])
  }
  tables.forEach(({ structure }, i) => {
    for (const parent of [...(structure.inherits ?? []), ...(structure.partitionOf === null ? [] : [structure.partitionOf])]) {
      const to = byName.get(parent)
      if (to !== undefined) edges.push([i, to])
    }
  })
  return edges
}

/** Types, and casts of them, that are dropped and made again with all the tables that have them, now or then. */
class RemadeTypes {
  /** By position among the others, the tables with each. */
  private readonly tablesOf = new Map<number, number[]>()

  constructor(manifest: DatabaseManifest, operations: Operation[], tables: TableManifest[], others: Operation[]) {
    const entries = new Map(manifest.entries.filter(isTableEntry).map((entry) => [entry.oid, entry]))
    others.forEach((operation, i) => {
      if (operation.when !== 'group') return
      const now = new Set(operation.withTables)
      const had = tables.flatMap(({ oid }, at) => {
        const { schema, name } = operations[at]!.target
        return now.has(thingKey(schema, name)) || entries.get(oid)?.needs.includes(operation.entries[0]!) ? [at] : []
      })
      if (had.length > 0) this.tablesOf.set(i, had)
    })
  }

  ties(): [number, number][] {
    return [...this.tablesOf.values()].flatMap(([first, ...rest]) => rest.map((table): [number, number] => [first!, table]))
  }

  innerOf(group: Set<number>): number[] {
    return [...this.tablesOf].flatMap(([i, tables]) => (tables.some((table) => group.has(table)) ? [i] : []))
  }
}

/** Things without rows that one table needs and that need another table, such as the function of an index over rows of a type. */
class Between {
  private readonly roots: Map<number, number>
  private readonly needs: Map<number, Set<number>>
  private readonly tableAt: Map<number, number>
  private readonly made: Map<number, number>
  private readonly reached: Map<number, Set<number>>

  constructor(
    manifest: DatabaseManifest,
    tables: TableManifest[],
    private readonly others: Operation[],
  ) {
    this.roots = rootsOf(manifest.entries, manifest.sequences)
    this.needs = needsByRoot(manifest.entries, this.roots, ({ type }) => type !== 'FK CONSTRAINT')
    const byOid = new Map(tables.map(({ oid }, i) => [oid, i]))
    this.tableAt = new Map(
      manifest.entries.flatMap((entry) =>
        isTableEntry(entry) && byOid.has(entry.oid) ? [[entry.id, byOid.get(entry.oid)!] as const] : [],
      ),
    )
    this.made = new Map(
      others.flatMap(({ verb, how, entries, when }, i) =>
        verb !== 'leave' && how !== 'refill' && when === 'after' && entries.length > 0 ? [[entries[0]!, i] as const] : [],
      ),
    )
    this.reached = new Map([...this.made].map(([root, i]) => [i, this.tablesFrom(root, new Set())]))
  }

  /** Tables that a thing needs, by way of other things that are made. */
  private tablesFrom(root: number, seen: Set<number>): Set<number> {
    const tables = new Set<number>()
    if (seen.has(root)) return tables
    seen.add(root)
    for (const id of this.needs.get(root) ?? []) {
      const table = this.tableAt.get(id)
      if (table !== undefined) tables.add(table)
      else if (this.made.has(id)) for (const far of this.tablesFrom(id, seen)) tables.add(far)
    }
    return tables
  }

  /** Things that are made and that a table needs, directly or by way of others. */
  private neededBy(root: number, seen = new Set<number>()): Set<number> {
    for (const id of this.needs.get(root) ?? []) {
      const other = this.made.get(id)
      if (other === undefined || seen.has(other)) continue
      seen.add(other)
      this.neededBy(id, seen)
    }
    return seen
  }

  /** By way of other things, or directly: a rule that writes to another table, a policy that reads one. */
  edges(): [number, number][] {
    return [...this.tableAt].flatMap(([root, table]) => {
      const far = [...this.neededBy(root)].flatMap((other) => [...this.reached.get(other)!])
      const near = [...(this.needs.get(root) ?? [])].flatMap((id) => this.tableAt.get(id) ?? [])
      return [...far, ...near].flatMap((to): [number, number][] => (to === table ? [] : [[table, to]]))
    })
  }

  /** Whether things that are made after the tables need one of a group. */
  isNeeded(group: Set<number>): boolean {
    return [...this.reached.values()].some((tables) => [...tables].some((table) => group.has(table)))
  }

  /** What has to be made in the midst of a group; what stands already is replaced by itself. */
  innerOf(group: Set<number>): number[] {
    const inner = new Set<number>()
    for (const [root, table] of this.tableAt) if (group.has(table)) for (const other of this.neededBy(root)) inner.add(other)
    return [...inner].filter((i) => this.others[i]!.verb === 'make').sort((a, b) => a - b)
  }
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
