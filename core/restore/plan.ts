import type { DatabaseManifest, OtherThing, TableManifest, TableStructure } from '../content/manifest'
import { isWithin, pathOf } from '../things/thing'
import { besideName } from './naming'
import { sameStructure } from '../compare/structure'
import { thingKey } from './sql'
import { countInWords, plural } from '../time/words'
import { familyOf, groupByForeignKeys } from './groups'
import { needsOf, type Along } from './needs'
import type { StructureEntry } from './structure'

export type Collision = 'replace' | 'rename' | 'skip'

export interface Wish {
  /** Paths of databases, schemas and things. */
  picks: string[]
  into: { mode: 'original' } | { mode: 'beside'; schema: string | null; names: Record<string, string> }
  collide: Collision
  /** Decisions for single things, by path. */
  each: Record<string, Collision>
}

/** What stands at the target now, as far as a plan has to know. */
export interface TargetState {
  exists: boolean
  tables: Map<string, TargetTable>
  /** Keys (`thingKey`) of views, sequences, types and functions. */
  others: Set<string>
  /** Every relation name in use, indexes too. */
  relations: Set<string>
  schemas: Set<string>
  extensions: Set<string>
  roles: Set<string>
  /** Whether the connecting role may create in the database. */
  mayCreate: boolean
  /** Statements that make the things without rows as they are now, by `definitionKey`. */
  definitions: Map<string, string>
}

export interface TargetTable {
  structure: TableStructure
  rows: number
  bytes: number
  /** Views and functions that need the table to be as it is, in words. */
  dependents: string[]
  mayReplace: boolean
}

/** How a table comes to its rows: made new, emptied and filled, or dropped and made again. */
export type How = 'create' | 'refill' | 'rebuild'

export interface Operation {
  path: string
  kind: string
  verb: 'make' | 'replace' | 'leave'
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
  /** Entries of the structure to run; for a refilled table none. */
  entries: number[]
  /** Whether it needs a table of this plan, so that it can only be made after the tables. */
  after: boolean
  /** Left because it is there and the same as then, so that nothing is missing. */
  same: boolean
}

export interface Blocker {
  code: string
  path: string
  what: string
  next: string
}

export interface DatabasePlan {
  database: string
  makesDatabase: boolean
  operations: Operation[]
  /** Tables that succeed or fail together, in loading order; indexes into `operations`. */
  groups: number[][]
  blockers: Blocker[]
  warnings: string[]
  rows: number
  bytes: number
  overwrites: number
}

export interface PlanInput {
  source: string
  manifest: DatabaseManifest
  target: TargetState
  wish: Wish
  /** The instant of the point, for names. */
  at: Date
}

/** From a wish to an ordered plan. Pure: the same input gives the same plan, and a rehearsal uses it too. */
export function planRestore(input: PlanInput): DatabasePlan {
  const { manifest, target, wish, source } = input
  const root = pathOf(source, manifest.name)
  const picked = (path: string) => wish.picks.some((pick) => isWithin(path, pick) || isWithin(root, pick))
  const tables = familyOf(
    manifest,
    manifest.tables.filter((table) => picked(table.path)),
  )
  const beside = wish.into.mode === 'beside'
  // Beside the original, the schema is chosen and not brought back.
  const others = manifest.others.filter(
    (other) => picked(other.path) && !isOwnedBy(other, tables, manifest) && !(beside && other.kind === 'schema'),
  )
  const tableOperations = tables.map((table) => planTable(table, input))
  const along = needsOf(input, tables, others, tableOperations)
  const standalone = [
    ...others.map((other) => planOther(other, input, null)),
    ...along.before.map((item) => planAlong(item, input)),
    ...along.after.map((item) => planAlong(item, input)),
  ]
  const { before, after } = aroundTables(standalone, tables, manifest)
  const operations = [...before, ...tableOperations, ...after]
  const groups = groupByForeignKeys(manifest, operations)
  return {
    database: manifest.name,
    makesDatabase: !target.exists,
    operations,
    groups,
    blockers: blockersOf(operations, input),
    warnings: warningsOf(operations, input),
    ...totalsOf(operations),
  }
}

/** A sequence that a column of one of the tables owns comes and goes with its table. */
function isOwnedBy(other: OtherThing, tables: TableManifest[], manifest: DatabaseManifest): boolean {
  if (other.kind !== 'sequence') return false
  const entry = manifest.entries.find((candidate) => candidate.id === other.entry)
  const state = manifest.sequences.find((s) => s.schema === entry?.schema && s.name === entry.name)
  return tables.some((table) => state?.ownedBy?.[0] === table.schema && state.ownedBy[1] === table.name)
}

/** Splits things without rows into those that can be made before the tables and those that need one, each in the order of the dump. */
function aroundTables(operations: Operation[], tables: TableManifest[], manifest: DatabaseManifest) {
  const order = new Map(manifest.entries.map((entry, i) => [entry.id, i]))
  const oids = new Set(tables.map((table) => table.oid))
  const needsTable = new Map<number, boolean>()
  // Entries come after what they need, so one pass is enough.
  for (const entry of manifest.entries) {
    const isTable = entry.type === 'TABLE' && oids.has(entry.oid)
    needsTable.set(entry.id, isTable || entry.needs.some((id) => needsTable.get(id) === true))
  }
  const position = (operation: Operation) => order.get(operation.entries[0] ?? -1) ?? Infinity
  const sorted = [...operations].sort((a, b) => position(a) - position(b))
  for (const operation of sorted) operation.after = operation.entries.some((id) => needsTable.get(id) === true)
  return { before: sorted.filter(({ after }) => !after), after: sorted.filter(({ after }) => after) }
}

function totalsOf(operations: Operation[]) {
  const active = operations.filter((operation) => operation.verb !== 'leave')
  return {
    rows: active.reduce((sum, operation) => sum + operation.rows, 0),
    bytes: active.reduce((sum, operation) => sum + operation.bytes, 0),
    overwrites: active.reduce((sum, operation) => sum + (operation.overwrites ?? 0), 0),
  }
}

function planTable(table: TableManifest, input: PlanInput): Operation {
  const { target, wish, at } = input
  const isTaken = (schema: string) => (name: string) => target.relations.has(thingKey(schema, name))
  const now = target.tables.get(thingKey(table.schema, table.name))
  const base = { ...blank(table.path, 'table'), rows: table.rows, bytes: table.bytes }
  if (wish.into.mode === 'beside') {
    const schema = wish.into.schema ?? table.schema
    const happened = !now ? 'dropped' : sameStructure(table.structure, now.structure) ? 'then' : 'changed'
    const inPlace = schema === table.schema
    const proposed = inPlace ? besideName(table.name, happened, at, isTaken(schema)) : table.name
    return placeNew(base, table, { schema, name: wish.into.names[table.path] ?? proposed }, input)
  }
  const original = { schema: table.schema, name: table.name }
  if (!now) return placeNew(base, table, original, input)
  const decision = wish.each[table.path] ?? wish.collide
  const choices: Collision[] = ['replace', 'rename', 'skip']
  if (decision === 'skip') {
    return { ...base, verb: 'leave', target: original, choices, notes: ['It is there already, and stays as it is.'], rows: 0, bytes: 0 }
  }
  if (decision === 'rename') {
    const name = besideName(table.name, 'then', at, isTaken(table.schema))
    return { ...placeNew(base, table, { schema: table.schema, name }, input), choices }
  }
  return replaceTable({ ...base, choices, target: original }, table, now)
}

function blank(path: string, kind: string): Operation {
  return {
    path,
    kind,
    verb: 'make',
    how: null,
    target: { schema: '', name: '' },
    renamed: false,
    rows: 0,
    bytes: 0,
    overwrites: null,
    along: null,
    notes: [],
    warnings: [],
    choices: [],
    entries: [],
    after: false,
    same: false,
  }
}

function placeNew(base: Operation, table: TableManifest, to: { schema: string; name: string }, input: PlanInput): Operation {
  const renamed = to.schema !== table.schema || to.name !== table.name
  const operation: Operation = { ...base, verb: 'make', how: 'create', target: to, renamed }
  if (input.target.relations.has(thingKey(to.schema, to.name))) {
    operation.warnings.push(`${to.schema}.${to.name} exists already.`)
  }
  operation.notes.push(table.rows === 0 ? 'Its structure; it held no rows.' : `${plural(table.rows, 'row')} put back.`)
  return operation
}

function replaceTable(base: Operation, table: TableManifest, now: TargetTable): Operation {
  const same = sameStructure(table.structure, now.structure)
  const operation: Operation = { ...base, verb: 'replace', how: same ? 'refill' : 'rebuild', overwrites: now.rows }
  operation.notes.push(
    same
      ? `Emptied and filled with ${plural(table.rows, 'row')} in one transaction; its structure is the same then and now.`
      : `Dropped and made again with ${plural(table.rows, 'row')} in one transaction; its structure has changed since.`,
  )
  return operation
}

function planOther(other: OtherThing, input: PlanInput, along: string | null): Operation {
  const entry = input.manifest.entries.find((candidate) => candidate.id === other.entry)!
  const schema = entry.schema ?? ''
  const base = { ...blank(other.path, other.kind), target: { schema, name: entry.name }, along, entries: [entry.id] }
  const leave = (note: string, same = false): Operation => ({ ...base, verb: 'leave', notes: [note], same })
  if (input.wish.into.mode === 'beside') {
    return leave(`Beside the original only tables are made; the ${other.kind.replace('-', ' ')} is left.`)
  }
  if (!existsAt(input.target, other.kind, schema, entry.name)) return { ...base, verb: 'make', how: 'create' }
  if (CONTAINERS.has(other.kind)) return leave('It is there.', true)
  const now = input.target.definitions.get(definitionKey(entry))
  if (now === entry.sql) return leave('It is there, the same as then.', true)
  return leave('It is there with another definition, and stays as it is now.')
}

const CONTAINERS = new Set(['schema', 'extension'])

export const definitionKey = (entry: StructureEntry) => JSON.stringify([entry.type, entry.schema, entry.name])

function planAlong(item: Along, input: PlanInput): Operation {
  if (item.other) return planOther(item.other, input, item.why)
  return {
    ...blank(
      pathOf(input.source, input.manifest.name, item.entry.schema ?? item.entry.name, item.entry.name),
      item.entry.type.toLowerCase(),
    ),
    how: 'create',
    target: { schema: item.entry.schema ?? '', name: item.entry.name },
    along: item.why,
    entries: [item.entry.id],
  }
}

export function existsAt(target: TargetState, kind: string, schema: string, name: string): boolean {
  if (kind === 'schema') return target.schemas.has(name)
  if (kind === 'extension') return target.extensions.has(name)
  return target.others.has(thingKey(schema, name)) || target.tables.has(thingKey(schema, name))
}

function blockersOf(operations: Operation[], { target, wish }: PlanInput): Blocker[] {
  const blockers: Blocker[] = []
  const add = (code: string, operation: Operation, what: string, next: string) => blockers.push({ code, path: operation.path, what, next })
  for (const operation of operations) {
    if (operation.verb === 'leave' || operation.kind !== 'table') continue
    const { schema, name } = operation.target
    const now = target.tables.get(thingKey(schema, name))
    if (operation.how === 'create' && target.relations.has(thingKey(schema, name))) {
      add('name_taken', operation, `${schema}.${name} exists already.`, 'Choose another name.')
    }
    if (operation.verb === 'replace' && !now?.mayReplace) {
      add(
        'not_owner',
        operation,
        `The connecting role does not own ${schema}.${name}, so it may not replace it.`,
        'Connect as its owner, or bring it back beside the original.',
      )
    }
    if (operation.how === 'rebuild' && now && now.dependents.length > 0) {
      const many = now.dependents.length > 3 ? ` and ${countInWords(now.dependents.length - 3)} more` : ''
      add(
        'others_depend',
        operation,
        `${schema}.${name} has another structure now, and ${now.dependents.slice(0, 3).join(', ')}${many} depend on it.`,
        'Bring it back beside the original, or take the dependent things away first. Nothing is dropped behind your back.',
      )
    }
    const beside = wish.into.mode === 'beside' ? wish.into.schema : null
    if (beside && !target.schemas.has(beside)) {
      add('schema_missing', operation, `There is no schema ${beside} in this database.`, 'Make it first, or choose one that exists.')
    }
  }
  return blockers
}

function warningsOf(operations: Operation[], { manifest, target }: PlanInput): string[] {
  const used = new Set(operations.filter((operation) => operation.verb !== 'leave').map((operation) => operation.path))
  const owners = new Set<string>()
  for (const table of manifest.tables) if (used.has(table.path)) owners.add(table.structure.owner)
  const missing = [...owners].filter((owner) => !target.roles.has(owner))
  return missing.map((role) => `The role ${role} does not exist at the target; what it owned will belong to the connecting role.`)
}
