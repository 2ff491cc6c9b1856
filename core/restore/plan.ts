import type { DatabaseManifest, RoleDefinition, TableManifest } from '../content/manifest'
import { isWithin, namesOf, pathOf, withinAny } from '../things/thing'
import { blockersOf, type Blocker } from './blockers'
import { checksOf, type Check } from './checks'
import { circlesOf, isViewDefinition } from './circles'
import { groupTables, type Group } from './groups'
import { comesLast } from './kinds'
import type { Mend } from './mends'
import { needsOf } from './needs'
import { rootToLoadThrough } from './partitions'
import { privilegesOf } from './privileges'
import { rolesIn } from './roles'
import { planDatabase, planLargeObjects, planOther, planRightsGiven, planRoles, planSchema } from './plan-others'
import { blank, leave, madeAgainTogether, planTable } from './plan-tables'
import { typesMadeAgain } from './remade-types'
import type { StructureEntry } from './structure'
import { rootsOf } from './structure'
import type { Dependent, TargetState } from './target'
import { versionChanges } from './versions'
import type { Collision, Wish } from './wish'

/**
 * How a thing comes back: made new; emptied and filled; dropped and made again; rows added that are missing;
 * single rows put back.
 */
export type How = 'create' | 'refill' | 'rebuild' | 'merge' | 'rows'

export interface Operation {
  path: string
  kind: string
  verb: 'make' | 'replace' | 'merge' | 'leave'
  how: How | null
  target: { schema: string; name: string }
  renamed: boolean
  rows: number
  bytes: number
  /** Rows at the target that are overwritten, by the server's estimate; null when nothing is. */
  overwrites: number | null
  /** Not picked, but needed by or gone with what was. */
  along: string | null
  notes: string[]
  warnings: string[]
  choices: Collision[]
  /** Entries of the structure to run; for tables none, they are found by the table. */
  entries: number[]
  /** Entries of it that wait for what is made after it, and that needs it. */
  later: number[]
  /** When it is made, beside the tables: before them, after them, last of all, or together with the group that needs it. */
  when: 'before' | 'group' | 'after' | 'last'
  /** What the receipt says of its rows beside the proof: from which other time they are, or what of them is not compared. */
  asOf: string | null
  /** Left because it is there and the same as then, so that nothing is missing. */
  same: boolean
  /** What is made equal in a table that stands, beside its rows. */
  mends: Mend[]
  /** What stands upon it at the target and is dropped and made again with it. */
  rebuilds: Dependent[]
  /** Of a type that is made again: the tables with which that is done, by `thingKey` at the target. */
  withTables: string[]
}

export interface DatabasePlan {
  /** The database of then, and where its things go. */
  database: string
  into: { source: string; database: string }
  makesDatabase: boolean
  operations: Operation[]
  /** What succeeds or fails together, in loading order; indexes into `operations`. */
  groups: Group[]
  /** What picked things need and find at the target. */
  found: string[]
  blockers: Blocker[]
  warnings: string[]
  checks: Check[]
  /** Roles that what comes back names and that the target lacks, and the roles it has, to map them to. */
  roles: { missing: string[]; there: string[] }
  rows: number
  bytes: number
  overwrites: number
}

export interface PlanInput {
  source: string
  manifest: DatabaseManifest
  /** Version number of the server that the point was taken from, such as 150018. */
  serverVersion: number
  target: TargetState
  into: { source: string; database: string }
  wish: Wish
  /** The moment of the point, for names. */
  at: Date
}

/** From a wish to an ordered plan. Pure: the same input gives the same plan, and a rehearsal uses it too. */
export function planRestore(input: PlanInput): DatabasePlan {
  const { manifest, target, wish } = input
  const needs = needsOf(input)
  const apart = needs.tables.map(({ table, along }) => ({ ...planTable(table, input), along }))
  const without = needs.others.map(({ other, along }) => planOther(other, input, along))
  const remade = typesMadeAgain(apart, without, input)
  const planned = madeAgainTogether(apart, input, remade.because)
  const tables = planned.map((operation, i) => {
    const { table } = needs.tables[i]!
    const known = limits(told(operation, manifest), table, input)
    return known.verb === 'leave' ? known : { ...known, warnings: [...known.warnings, ...namesRoles(table, input)] }
  })
  const circles = circlesOf(manifest)
  const others = needs.others.map(({ other }, i) => {
    const rule = circles.get(other.entry)
    return { ...told(forRoles(remade.others[i]!, input), manifest), later: rule === undefined ? [] : [rule] }
  })
  const groups = groupTables(manifest, tables, others)
  const inner = new Set(groups.flatMap((group) => group.inner))
  const operations = [
    ...planRoles(input, [...tables, ...others]),
    ...planSchema(input, [...tables, ...others]),
    ...inOrder(input, others, 'before'),
    ...planLargeObjects(input).map((operation) => told(operation, manifest)),
    ...tables,
    ...planUnknown(input),
    ...others.filter((_, i) => inner.has(i)),
    ...inOrder(input, others, 'after'),
    ...inOrder(input, others, 'last'),
    ...planRightsGiven(input),
    ...planDatabase(input),
  ]
  const at = new Map(operations.map((operation, i) => [operation, i]))
  const placed = groups.map((group) => ({
    tables: group.tables.map((i) => at.get(tables[i]!)!),
    inner: group.inner.map((i) => at.get(others[i]!)!),
    late: group.late,
  }))
  const denied = privilegesOf(operations, placed, input)
  for (const [operation, words] of denied) operation.warnings.push(...words)
  const blockers = [...blockersOf(operations, input), ...needs.blockers]
  const warnings = [...needs.warnings, ...warningsOf(operations, input)]
  return {
    database: manifest.name,
    into: input.into,
    makesDatabase: !target.exists,
    operations,
    groups: placed,
    found: needs.found,
    blockers,
    warnings,
    checks: checksOf(operations, input, blockers, [...denied.keys()]),
    roles: {
      missing: missingRoles(operations, manifest, target, { ...wish, roles: {} }),
      there: [...target.roles].filter((role) => !role.startsWith('pg_')).sort(),
    },
    ...totalsOf(operations),
  }

  /** Things without rows of one time, in the order of the dump; those in a group are made with it. */
  function inOrder({ manifest: { entries } }: PlanInput, all: Operation[], when: Operation['when']): Operation[] {
    const order = new Map(entries.map((entry, i) => [entry.id, i]))
    const position = (operation: Operation) => order.get(operation.entries[0] ?? -1) ?? Infinity
    const free = all.filter((_, i) => !inner.has(i))
    return free.filter((operation) => operation.when === when).sort((a, b) => position(a) - position(b))
  }
}

/** What the point does not know wholly is said of the operation that brings it back, and later in the receipt. */
function told(operation: Operation, { missing }: DatabaseManifest): Operation {
  const note = operation.verb === 'leave' ? undefined : missing.find(({ path, note }) => note && path === operation.path)
  return note ? { ...operation, asOf: note.reason, warnings: [...operation.warnings, note.reason] } : operation
}

/** What can't be made where a role is missing that it is for, whoever makes it. */
function forRoles(operation: Operation, { manifest, target, wish }: PlanInput): Operation {
  if (operation.verb === 'leave') return operation
  const there = (role: string) => target.roles.has(wish.roles[role] ?? role)
  const entry = manifest.entries.find(({ id }) => id === operation.entries[0])
  const missing = operation.kind === 'user-mapping' && entry && !wish.makeRoles ? rolesIn(entry.sql).filter((role) => !there(role)) : []
  const said = missing.map((role) => `It can’t be made, because the role ${role} does not exist at the target.`)
  return { ...operation, warnings: [...operation.warnings, ...said] }
}

/** Rows that name roles can't be loaded where one of them is missing. */
function namesRoles(table: TableManifest, { manifest, target }: PlanInput): string[] {
  const columns = table.structure.columns.filter(({ type, base }) => /^(pg_catalog\.)?regrole(\[\])*$/.test(base ?? type))
  const missing = (manifest.roles ?? []).filter(({ name }) => !target.roles.has(name))
  if (columns.length === 0 || missing.length === 0) return []
  return [
    `Values of ${columns.map(({ name }) => name).join(', ')} name roles; if one of them names ${missing.map(({ name }) => name).join(' or ')}, which is not at the target, its rows can’t be loaded.`,
  ]
}

/** What is not proven of a table's rows as that of other tables is; it is said before, and in the receipt. */
function limits(operation: Operation, table: TableManifest, { manifest, wish }: PlanInput): Operation {
  if (operation.verb === 'leave' || wish.what === 'structure' || table.rows === 0) return operation
  const generated = table.structure.columns.filter((column) => column.generated).map(({ name }) => name)
  const root = rootToLoadThrough(table, manifest.tables)
  const said = [
    ...(generated.length > 0 ? [`Values of ${generated.join(', ')} are reckoned anew by what the target has of their functions.`] : []),
    ...(root
      ? [`Its rows are loaded through ${root.name}, and may lie in other partitions of it than then; all of them together are compared.`]
      : []),
  ]
  if (said.length === 0) return operation
  const known = operation.asOf === null ? said : [operation.asOf, ...said]
  return { ...operation, asOf: known.join(' '), notes: [...operation.notes, ...said] }
}

/** What was there and can't be restored: it stays in the list, with the reason. */
function planUnknown(input: PlanInput): Operation[] {
  const { manifest, wish } = input
  const picked = pickerOf(input)
  const held = new Set([...manifest.tables, ...manifest.others].map(({ path }) => path))
  if (wish.what === 'structure') return []
  return manifest.missing
    .filter(({ path, note, onlyAt }) => !note && onlyAt === undefined && picked(path) && !held.has(path))
    .map(({ path, reason }) => {
      const [, , schema = '', ...name] = namesOf(path)
      return leave({ ...blank(path, 'table'), target: { schema, name: name.join('/') } }, reason)
    })
}

/** What is picked of a database: by itself, or by something that holds it. */
export const pickerOf = (input: PlanInput): ((path: string) => boolean) => (isWholePicked(input) ? () => true : withinAny(input.wish.picks))

export function isWholePicked({ wish, source, manifest }: PlanInput): boolean {
  return wish.picks.some((pick) => isWithin(pathOf(source, manifest.name), pick))
}

/**
 * When a thing without rows is made: after the tables where it needs one of them, directly or by way of
 * something else.
 */
export function timeOf(kind: string, entry: StructureEntry, manifest: DatabaseManifest): Operation['when'] {
  if (comesLast(kind)) return 'last'
  return needsTable(manifest).get(entry.id) ? 'after' : 'before'
}

const tableNeeds = new WeakMap<DatabaseManifest, Map<number, boolean>>()

function needsTable(manifest: DatabaseManifest): Map<number, boolean> {
  const known = tableNeeds.get(manifest)
  if (known) return known
  const roots = rootsOf(manifest.entries, manifest.sequences)
  const tables = new Set(manifest.entries.filter(({ type }) => type === 'TABLE' || type === 'FOREIGN TABLE').map(({ id }) => id))
  const needs = new Map<number, boolean>()
  const foreign = new Map<number, boolean>()
  // A view whose definition is a rule that comes later in the dump needs what that needs: a table's key at least.
  for (const entry of manifest.entries) if (isViewDefinition(entry)) needs.set(roots.get(entry.id)!, true)
  // Entries come after what they need, so one pass is enough.
  for (const entry of manifest.entries) {
    const isOfTable = tables.has(entry.id) || tables.has(roots.get(entry.id)!)
    const others = entry.needs.some((id) => needs.get(id) === true)
    if (entry.type === 'FOREIGN TABLE') foreign.set(entry.id, others)
    needs.set(entry.id, needs.get(entry.id) === true || isOfTable || others)
  }
  // A table on another server is none of ours, unless it inherits from one.
  for (const [id, others] of foreign) needs.set(id, others)
  tableNeeds.set(manifest, needs)
  return needs
}

function totalsOf(operations: Operation[]) {
  const active = operations.filter((operation) => operation.verb !== 'leave')
  return {
    rows: active.reduce((sum, operation) => sum + operation.rows, 0),
    bytes: active.reduce((sum, operation) => sum + operation.bytes, 0),
    overwrites: active.reduce((sum, operation) => sum + (operation.overwrites ?? 0), 0),
  }
}

function warningsOf(operations: Operation[], { source, manifest, target, wish, serverVersion }: PlanInput): string[] {
  const isActive = operations.some(({ verb }) => verb !== 'leave')
  const warnings = isActive ? versionChanges(Math.floor(serverVersion / 10000), target.version) : []
  const root = pathOf(source, manifest.name)
  if (isActive) warnings.push(...manifest.missing.filter(({ path, note }) => note && path === root).map(({ reason }) => reason))
  const missing = missingRoles(operations, manifest, target, wish)
  if (target.eventTriggers.length > 0 && !target.may.superuser)
    warnings.push(
      `Event triggers of the target will fire for what is made and dropped: ${target.eventTriggers.join(', ')}. Only a superuser’s restore keeps them still.`,
    )
  if (!wish.makeRoles) {
    for (const role of missing) {
      warnings.push(
        `The role ${role} does not exist at the target; what it owned will belong to the connecting role; rights and policies for it are left out.`,
      )
    }
  }
  return warnings
}

/** Roles that active operations name, as owners or in rights, and that neither the target nor the mapping has. */
export function missingRoles(operations: Operation[], manifest: DatabaseManifest, target: TargetState, wish: Wish): string[] {
  const used = new Set(operations.filter((operation) => operation.verb !== 'leave').map((operation) => operation.path))
  const roles = new Set<string>()
  for (const table of manifest.tables) {
    if (!used.has(table.path)) continue
    roles.add(table.structure.owner)
    for (const grant of table.structure.grants) roles.add(grant.slice(0, grant.lastIndexOf(':')))
  }
  const byId = new Map(manifest.entries.map((entry) => [entry.id, entry]))
  for (const operation of operations) {
    if (operation.verb === 'leave') continue
    for (const id of operation.entries) roles.add(byId.get(id)?.owner ?? 'public')
  }
  roles.delete('public')
  return [...roles].filter((role) => !target.roles.has(wish.roles[role] ?? role)).sort()
}

export const roleDefinition = (manifest: DatabaseManifest, name: string): RoleDefinition =>
  manifest.roles?.find((role) => role.name === name) ?? {
    name,
    login: false,
    inherit: true,
    createDatabase: false,
    createRole: false,
    memberOf: [],
  }

export type { Blocker } from './blockers'
export type { Check } from './checks'
export type { Group } from './groups'
