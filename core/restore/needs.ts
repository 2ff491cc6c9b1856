import type { OtherThing, TableManifest } from '../content/manifest'
import { pathOf } from '../things/thing'
import type { Blocker } from './blockers'
import { familyOf } from './groups'
import { kindOf } from './kinds'
import { mendsOf, needsRebuild } from './mends'
import { isWholePicked, pickerOf, type PlanInput } from './plan'
import { thingKey } from './sql'
import { isTableEntry, rootsOf, type StructureEntry } from './structure'
import { stands } from './target'

/** Everything that a restore is about: what was picked, and what comes along with the reason. */
export interface Needs {
  tables: { table: TableManifest; along: string | null }[]
  others: { other: OtherThing; along: string | null }[]
  /** Paths of what is needed and found at the target. */
  found: string[]
  blockers: Blocker[]
  warnings: string[]
}

/**
 * What was picked, with what it needs (schemas, types, functions, sequences, extensions, parents, referenced
 * tables…) where that is missing at the target, and with the views that went with a table that is made again.
 */
export function needsOf(input: PlanInput): Needs {
  const picked = pickerOf(input)
  const search = new NeedSearch(input)
  const tables = familyOf(
    input.manifest,
    input.manifest.tables.filter((table) => picked(table.path)),
  )
  for (const table of tables) search.addTable(table, null)
  for (const other of input.manifest.others) if (picked(other.path)) search.addOther(other, null)
  search.walk()
  if (input.wish.into.mode === 'original') search.addWhatWent()
  search.walk()
  return search.result()
}

const GOES_ALONG = new Set(['VIEW', 'MATERIALIZED VIEW', 'FOREIGN TABLE'])

class NeedSearch {
  private readonly roots: Map<number, number>
  private readonly byId: Map<number, StructureEntry>
  private readonly partsOf = new Map<number, StructureEntry[]>()
  private readonly tableOf = new Map<number, TableManifest>()
  private readonly otherOf: Map<number, OtherThing>
  /** By root entry: why it comes along, null when it was picked. */
  private readonly taken = new Map<number, string | null>()
  private readonly found = new Set<string>()
  private readonly queue: number[] = []
  private readonly blockers: Blocker[] = []
  private readonly warnings: string[] = []

  constructor(private readonly input: PlanInput) {
    const { entries, sequences, tables, others } = input.manifest
    this.roots = rootsOf(entries, sequences)
    this.byId = new Map(entries.map((entry) => [entry.id, entry]))
    for (const entry of entries) {
      const root = this.roots.get(entry.id)!
      this.partsOf.set(root, [...(this.partsOf.get(root) ?? []), entry])
    }
    const byOid = new Map(tables.map((table) => [table.oid, table]))
    for (const entry of entries) {
      const table = entry.type === 'TABLE' ? byOid.get(entry.oid) : undefined
      if (table) this.tableOf.set(entry.id, table)
    }
    this.otherOf = new Map(others.map((other) => [other.entry, other]))
  }

  addTable(table: TableManifest, why: string | null): void {
    const entry = [...this.tableOf].find(([, candidate]) => candidate === table)?.[0]
    // A table whose structure could not be dumped has no entry; its rows can still be put into one that stands.
    this.take(entry ?? -table.oid, why)
    if (entry === undefined) this.tableOf.set(-table.oid, table)
  }

  /** A sequence that a column of a table owns comes and goes with its table. */
  addOther(other: OtherThing, why: string | null): void {
    const root = this.roots.get(other.entry)!
    if (root !== other.entry && this.taken.has(root)) return
    this.take(other.entry, why)
  }

  private take(root: number, why: string | null): void {
    if (this.taken.has(root)) return
    this.taken.set(root, why)
    this.queue.push(root)
  }

  /** Goes on from what was taken until nothing more is needed. */
  walk(): void {
    for (let root = this.queue.shift(); root !== undefined; root = this.queue.shift()) {
      if (!this.isMade(root) && !this.isMended(root)) continue
      const entry = this.byId.get(root)
      const name = entry?.name.split(' ')[0] ?? ''
      for (const part of this.partsOf.get(root) ?? []) {
        for (const id of part.needs) this.need(this.roots.get(id) ?? id, root, name, part.type === 'FK CONSTRAINT')
        if (part.type === 'FK CONSTRAINT' && part.refers !== null) this.needReferred(part, root, name)
      }
    }
  }

  private needReferred(part: StructureEntry, root: number, name: string): void {
    const referred = [...this.tableOf].find(([, table]) => table.oid === part.refers)?.[0]
    if (referred !== undefined) return this.need(referred, root, name, true)
    const entry = this.input.manifest.entries.find((candidate) => isTableEntry(candidate) && candidate.oid === part.refers)
    if (part.of !== this.byId.get(root)?.oid || !entry || stands(this.input.target, entry)) return
    this.warnings.push(
      `${name} refers to ${entry.name}, which this point does not hold and which is not there: that key can’t be put in place.`,
    )
  }

  /** Whether it will be made, so that what it needs must be there. */
  private isMade(root: number): boolean {
    const { wish, target } = this.input
    const entry = this.byId.get(root)
    if (wish.what === 'rows' || !entry) return false
    const table = this.tableOf.get(root)
    if (!table) return !stands(target, entry) || wish.into.mode === 'beside'
    const now = target.tables.get(thingKey(table.schema, table.name))
    return !now || wish.into.mode === 'beside' || needsRebuild(table.structure, now.structure)
  }

  /** Whether parts of it will be made again, so that what they need must be there. */
  private isMended(root: number): boolean {
    const { wish, target } = this.input
    const table = this.tableOf.get(root)
    const now = table && target.tables.get(thingKey(table.schema, table.name))
    return wish.what === 'both' && now !== undefined && mendsOf(table!, now.structure, wish.roles).length > 0
  }

  private need(root: number, by: number, name: string, isReference: boolean): void {
    const { wish, target, source, manifest } = this.input
    const entry = this.byId.get(root)
    if (!entry || root === by || this.taken.has(root)) return
    const table = this.tableOf.get(root)
    const other = this.otherOf.get(root)
    if (!table && !kindOf(entry)) return
    const path = table?.path ?? other?.path ?? pathOf(source, manifest.name, ...(entry.schema === null ? [] : [entry.schema]), entry.name)
    if (stands(target, entry)) {
      if (entry.type !== 'SCHEMA') this.found.add(path)
      return
    }
    // A copy beside the original refers to what stands; what it referred to is not made twice for it.
    if (isReference && wish.into.mode === 'beside') return
    const comes = wish.along && !wish.without.includes(path)
    if (comes && (table || other || entry.type === 'SCHEMA' || kindOf(entry))) {
      this.take(root, `${name} needs it`)
      if (!table && !other) this.otherOf.set(root, { path, kind: kindOf(entry)!, entry: root })
      return
    }
    if (isReference)
      this.warnings.push(`${name} refers to ${entry.name}, which is not there and does not come along: that key can’t be put in place.`)
    else if (entry.type === 'TABLE' && !table) this.block(path, name, entry, 'which this point does not hold')
    else if (!comes) this.block(path, name, entry, 'which is not there and is not to come along')
  }

  private block(path: string, name: string, entry: StructureEntry, why: string): void {
    if (this.blockers.some((blocker) => blocker.path === path)) return
    const kind = (kindOf(entry) ?? 'table').replaceAll('-', ' ')
    this.blockers.push({
      code: 'need_missing',
      path,
      what: `${name} needs the ${kind} ${entry.name}, ${why}.`,
      next: 'Let it come along, or make it at the target first.',
    })
  }

  /** Views over a table that was dropped, and its partitions on other servers, went with it; they come back with the table. */
  addWhatWent(): void {
    const { manifest, target, wish } = this.input
    if (wish.what === 'rows' || !wish.along || isWholePicked(this.input)) return
    for (const entry of manifest.entries) {
      if (!GOES_ALONG.has(entry.type)) continue
      if (this.taken.has(entry.id) || stands(target, entry) || !this.otherOf.has(entry.id)) continue
      // The definition of a view may be a rule of it, which comes later in a dump.
      const needs = (this.partsOf.get(entry.id) ?? [entry]).flatMap((part) => part.needs)
      const over = needs.find(
        (id) => this.taken.has(id) && this.isMade(id) && (this.tableOf.has(id) || kindOf(this.byId.get(id)!)?.endsWith('view')),
      )
      if (over === undefined || wish.without.includes(this.otherOf.get(entry.id)!.path)) continue
      this.take(entry.id, `went with ${this.byId.get(over)!.name}`)
    }
  }

  result(): Needs {
    const along = (root: number) => this.taken.get(root)
    const tables = [...this.tableOf].flatMap(([root, table]) => (along(root) === undefined ? [] : [{ table, along: along(root)! }]))
    const others = [...this.otherOf].flatMap(([root, other]) => (along(root) === undefined ? [] : [{ other, along: along(root)! }]))
    return { tables, others, found: [...this.found].sort(), blockers: this.blockers, warnings: [...new Set(this.warnings)] }
  }
}
