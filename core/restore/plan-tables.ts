import type { TableManifest } from '../content/manifest'
import { plural } from '../time/words'
import { mendsOf, needsRebuild, type Mend } from './mends'
import { besideName } from './naming'
import { ownedSequenceMends, partCommentMends, partsByRoot } from './other-mends'
import type { Operation, PlanInput } from './plan'
import { thingKey } from './sql'
import { isTableEntry } from './structure'
import { definitionKey, type TargetTable } from './target'
import type { Collision } from './wish'

export function blank(path: string, kind: string): Operation {
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
    when: 'before',
    asOf: null,
    mends: [],
    later: [],
    same: false,
    rebuilds: [],
    withTables: [],
  }
}

const holdsRows = (table: TableManifest) => table.structure.kind === 'table'

/** What becomes of one table. */
export function planTable(table: TableManifest, input: PlanInput): Operation {
  const { target, wish } = input
  const now = target.tables.get(thingKey(table.schema, table.name))
  const withRows = wish.what !== 'structure' && holdsRows(table)
  const base = { ...blank(table.path, 'table'), rows: withRows ? table.rows : 0, bytes: withRows ? table.bytes : 0 }
  const original = { schema: table.schema, name: table.name }
  if (wish.rows[table.path] && wish.what !== 'structure') return putRows({ ...base, target: original }, table, input)
  if (wish.into.mode === 'beside') return placeNew(base, table, besidePlace(table, now, input), input)
  if (!now) return wish.what === 'rows' ? { ...base, how: 'refill', target: original } : placeNew(base, table, original, input)
  const decision = wish.each[table.path] ?? wish.collide
  const all: Operation = { ...base, choices: choicesFor(table, input), target: original }
  if (decision === 'skip') return leave(all, 'It is there already, and stays as it is.')
  if (decision === 'merge')
    return wish.what === 'structure' ? leave(all, 'It is there already; a structure is not merged.') : mergeInto(all, table)
  if (decision === 'rename' && wish.what === 'rows') return leave(all, 'Rows alone have no name of their own; the table stays as it is.')
  if (decision === 'rename') {
    const name = besideName(table.name, 'then', input.at, isTaken(table.schema, input))
    return { ...placeNew(base, table, { schema: table.schema, name }, input), choices: all.choices }
  }
  return replaceTable(all, table, now, input)
}

const isTaken =
  (schema: string, { target }: PlanInput) =>
  (name: string) =>
    target.relations.has(thingKey(schema, name))

function choicesFor(table: TableManifest, { wish }: PlanInput): Collision[] {
  const merge: Collision[] = wish.what === 'structure' || !holdsRows(table) || !table.key ? [] : ['merge']
  return wish.what === 'rows' ? ['replace', ...merge, 'skip'] : ['replace', 'rename', ...merge, 'skip']
}

export function leave(base: Operation, note: string, same = false): Operation {
  return { ...base, verb: 'leave', how: null, notes: [note], rows: 0, bytes: 0, same }
}

function besidePlace(table: TableManifest, now: TargetTable | undefined, input: PlanInput): { schema: string; name: string } {
  const { into } = input.wish
  if (into.mode !== 'beside') throw new Error('only for copies beside the original')
  const schema = into.schema ?? table.schema
  const given = into.names[table.path]
  if (given) return { schema, name: given }
  if (into.prefix || into.suffix) return { schema, name: into.prefix + table.name + into.suffix }
  if (schema !== table.schema) return { schema, name: table.name }
  const happened = !now ? 'dropped' : needsRebuild(table.structure, now.structure) ? 'changed' : 'then'
  return { schema, name: besideName(table.name, happened, input.at, isTaken(schema, input)) }
}

function placeNew(base: Operation, table: TableManifest, to: { schema: string; name: string }, input: PlanInput): Operation {
  const renamed = to.schema !== table.schema || to.name !== table.name
  const note =
    input.wish.what === 'structure'
      ? 'Its structure, without rows.'
      : table.rows === 0
        ? 'Its structure; it held no rows.'
        : `${plural(table.rows, 'row')} put back.`
  return { ...base, verb: 'make', how: 'create', target: to, renamed, notes: [note] }
}

function replaceTable(base: Operation, table: TableManifest, now: TargetTable, input: PlanInput): Operation {
  const { wish } = input
  const rebuild = needsRebuild(table.structure, now.structure)
  const mends = rebuild ? [] : allMends(table, now, input)
  const same = !rebuild && mends.length === 0
  if (wish.what === 'structure' && !rebuild) return { ...leave(base, structureNote(mends), same), choices: [] }
  const refill = !rebuild || wish.what === 'rows'
  const rows = wish.what === 'structure' ? 'without rows' : `with ${plural(table.rows, 'row')}`
  const structure = same ? 'its structure is the same then and now' : wish.what === 'rows' ? 'its structure stays as it is now' : null
  const note = refill
    ? `Emptied and filled ${rows} in one transaction${structure ? `; ${structure}` : ''}.`
    : `Dropped and made again ${rows} in one transaction; its structure has changed since.`
  const mended = wish.what === 'both' && mends.length > 0 ? [`Made equal: ${mends.map(({ words }) => words).join(', ')}.`] : []
  return {
    ...base,
    verb: 'replace',
    how: refill ? 'refill' : 'rebuild',
    overwrites: now.rows,
    notes: [note, ...mended, ...keysNote(now)],
    mends: wish.what === 'both' ? mends : [],
    rebuilds: refill ? [] : now.dependents.filter(({ kind }) => kind !== 'table'),
  }
}

/** What differs of a table, of the sequences that its columns own, and of comments on its parts. */
function allMends(table: TableManifest, { structure }: TargetTable, { manifest, target, wish }: PlanInput): Mend[] {
  const mends = mendsOf(table, structure, wish.roles)
  const root = manifest.entries.find((entry) => isTableEntry(entry) && entry.oid === table.oid)
  const now = root && target.definitions.get(definitionKey(root))
  if (!now) return mends
  const before = partsByRoot(manifest.entries, manifest.sequences).get(root.id)!
  return [...mends, ...ownedSequenceMends(before, now, wish.roles), ...partCommentMends(before, now, mends.length > 0)]
}

/**
 * A table that could be emptied and filled is made again too where one that it needs is: one that it inherits from, or
 * whose rows or name it uses.
 *
 * @param types of which tables have one that is made again, by `thingKey`: its name
 */
export function madeAgainTogether(operations: Operation[], { manifest, target, wish }: PlanInput, types: Map<string, string>): Operation[] {
  if (wish.what !== 'both') return operations
  const keyOf = (operation: Operation) => thingKey(operation.target.schema, operation.target.name)
  const tables = new Map(manifest.tables.map((table) => [table.path, table]))
  const because = new Map(types)
  const queue = operations.filter((operation) => operation.how === 'rebuild' || because.has(keyOf(operation)))
  const refilled = new Map(operations.flatMap((operation) => (operation.how === 'refill' ? [[keyOf(operation), operation] as const] : [])))
  for (let next = queue.shift(); next; next = queue.shift()) {
    for (const { kind, key } of target.tables.get(keyOf(next))?.dependents ?? []) {
      const along = kind === 'table' && !because.has(key) ? refilled.get(key) : undefined
      if (!along) continue
      because.set(key, next.target.name)
      queue.push(along)
    }
  }
  return operations.map((operation) => {
    const why = operation.how === 'refill' ? because.get(keyOf(operation)) : undefined
    if (why === undefined) return operation
    const now = target.tables.get(keyOf(operation))!
    const note = `Dropped and made again with ${plural(tables.get(operation.path)!.rows, 'row')} in one transaction, because ${why} is made again, and it needs that.`
    const rebuilds = now.dependents.filter(({ kind }) => kind !== 'table')
    return { ...operation, how: 'rebuild', mends: [], rebuilds, notes: [note, ...keysNote(now)] }
  })
}

const structureNote = (mends: Mend[]) =>
  mends.length === 0
    ? 'Its structure is the same then and now.'
    : `It stays as it is now. To be as then: ${mends.map(({ words }) => words).join(', ')}; that comes back with its rows.`

/** Keys of other tables survive, and that is said before. */
function keysNote({ referredBy }: TargetTable): string[] {
  if (referredBy.length === 0) return []
  const names =
    referredBy.length > 3 ? `${referredBy.slice(0, 2).join(', ')} and ${referredBy.length - 2} more tables` : referredBy.join(', ')
  return [`Foreign keys of ${names} to it are taken off meanwhile, and put back.`]
}

function mergeInto(base: Operation, table: TableManifest): Operation {
  if (!holdsRows(table)) return leave(base, 'It has no rows of its own; its partitions have them.', true)
  return {
    ...base,
    verb: 'merge',
    how: 'merge',
    notes: [`Rows of then whose ${table.key?.join(', ') ?? 'key'} is missing now are added; all others stay as they are.`],
  }
}

function putRows(base: Operation, table: TableManifest, { wish }: PlanInput): Operation {
  const { keys, overwrite } = wish.rows[table.path]!
  const columns = overwrite
    ? `${overwrite.join(', ')} ${overwrite.length === 1 ? 'is' : 'are'} overwritten in rows that are there`
    : 'rows that are there stay'
  return {
    ...base,
    verb: 'merge',
    how: 'rows',
    rows: keys.length,
    bytes: table.rows === 0 ? 0 : Math.round((table.bytes / table.rows) * keys.length),
    overwrites: overwrite ? keys.length : null,
    notes: [`${plural(keys.length, 'picked row')}: missing ones are added, ${columns}.`],
  }
}
