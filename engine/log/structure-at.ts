import type { LogManifest, StructureStep } from '../../core/changes/manifest'
import { positionOf } from '../../core/chain/position'
import { NO_ROWS, type DatabaseManifest, type Missing, type SequenceState, type TableManifest } from '../../core/content/manifest'
import { othersOf } from '../../core/restore/kinds'
import { inOrder, keyOf, mergeStructures, type ThingParts } from '../../core/restore/merge'
import { thingKey } from '../../core/restore/sql'
import { CATALOG, isTableEntry, rootsOf, type StructureEntry } from '../../core/restore/structure'
import { entriesOfTable } from '../../core/restore/table-entries'
import { pathOf } from '../../core/things/thing'
import { doubtfulKeys, doubtsOf, MOVED } from '../sources/postgres/moved'
import { withAttachments } from './attachments'
import {
  certain,
  columnsSeen,
  earlier,
  isAfter,
  isBehind,
  isLooked,
  isUpTo,
  LOOK_AHEAD,
  piecesOf,
  stepsBetween,
  untilReading,
  type Piece,
  type Read,
  type ReadChunk,
} from './structure-pieces'
import { calledAs, renamer, sameBut, withNamesOf } from './renames'
import { betweenLooksOf, differing, INEXACT, inexact, neverRead, partsUnknown, UNLOOKED, UNTOLD } from './told-of-moment'
import { Touches } from './touches'
import type { Ingredients } from './view'

/** The structure of a member at a position, and whether all that can be known of it is known by now. */
export interface StructureAtPosition {
  structure: DatabaseManifest
  settled: boolean
  /** Whether more of the log, once it is stored, may tell of changes that the source was kept from telling. */
  awaits: boolean
}

/**
 * The structure at a position. What was read before holds for everything that was not touched since; tables that were
 * touched are as the source told in the transaction that did it; of all else that was touched, what was read next holds
 * unless it was touched once more until then.
 *
 * @param next the segments of log that follow, in which the next reading may lie
 */
export async function structureAt(
  from: Ingredients,
  readManifest: Read,
  next: () => AsyncIterable<LogManifest>,
  readChunk: ReadChunk,
): Promise<StructureAtPosition> {
  const at = positionOf(from.position)!
  const database = from.full.databases[0]!
  const known: Piece[] = [
    certain(positionOf(database.position)!, async () => database),
    // Where nothing was changed up to the position of a net, the log may end before it.
    ...from.nets.map(({ structure, to }) => certain(earlier(positionOf(to)!, at), () => readManifest(structure))),
    ...piecesOf(from.logs, readManifest),
  ]
  // A later reading of the same place replaces an earlier one.
  const read = known.filter(({ exact }) => exact <= at).reduce((a, b) => (b.exact >= a.exact ? b : a))
  // Without a trigger, or while it was off, the next reading alone tells that something had changed already.
  const looks = from.logs.at(-1)?.noticed === 'compare'
  const isOpen = from.logs.at(-1)?.looked !== undefined && !isLooked(from.logs, at)
  const isChanged = isOpen || stepsBetween(from.logs, read.exact, at).length > 0
  // How sequences went on from a position behind the last segment is told by the next.
  const isBehind = from.later && positionOf(from.logs.at(-1)?.to ?? '0/0')! < at
  const ahead = isChanged || isBehind ? await untilReading(next(), isChanged ? at : null, readManifest) : []
  from.following = ahead
  // A reading comes into the log behind what was changed meanwhile, so that some of before the position lie behind it.
  const behind = piecesOf(ahead, readManifest)
  const before = behind.filter(({ exact }) => exact <= at).reduce((a, b) => (b.exact > a.exact ? b : a), read)
  const steps = stepsBetween(from.logs, before.exact, at)
  const found = await before.read()
  const fills = await firstFills(from, readManifest)
  const whole = (structure: DatabaseManifest): DatabaseManifest => ({
    ...structure,
    tables: structure.tables.map((table) => ({ ...table, ...NO_ROWS, fills: fillsOf(table, fills) })),
    missing: [...toldWith(found, structure), ...structure.missing],
  })
  const looked = lookedAfter(from, ahead, at, looks, readManifest)
  const awaits = isOpen && !isLooked(ahead, at) && ahead.length < LOOK_AHEAD
  if (steps.length === 0) {
    const rowColumns = () => columnsSeen(from.logs, before.exact, at, readChunk)
    const { structure, settled } = await betweenLooks(from, found, looked, rowColumns)
    return { structure: whole(structure), settled, awaits }
  }
  const after = [...known, ...behind]
    .filter((piece) => isAfter(piece, at))
    .reduce<Piece | null>((a, b) => (a && a.exact <= b.exact ? a : b), null)
  const beyond = [...from.logs, ...ahead]
    .flatMap((log) => log.steps ?? [])
    .filter(({ end }) => positionOf(end)! > at && (!after || positionOf(end)! <= after.exact))
  const merged = merge(from, found, after ? await after.read() : null, steps, beyond)
  if (looked.open.length > 0) merged.missing.push(betweenLooksOf(from, database.name))
  return { structure: whole(merged), settled: after !== null, awaits }
}

/**
 * What was told of a structure when it was read holds on; not of tables that are gone, nor of rows, which the log tells
 * of. What moved while it was read is told where it is used.
 */
function toldWith(found: DatabaseManifest, now: DatabaseManifest): Missing[] {
  const pathsOf = ({ tables }: DatabaseManifest) => new Set(tables.map(({ path }) => path))
  const [before, still] = [pathsOf(found), pathsOf(now)]
  return found.missing.filter(({ path, note, reason }) => reason !== MOVED && (still.has(path) ? note : !before.has(path)))
}

/** What looking told of a position: readings whose change may lie before it or after it, and whether it is looked up to there. */
interface Looked {
  open: Piece[]
  isKnown: boolean
}

/** Only what was stored up to the look that covers a position can be of a change before it. */
function lookedAfter(from: Ingredients, ahead: LogManifest[], at: bigint, looks: boolean, read: Read): Looked {
  const logs = [...from.logs, ...ahead]
  const covering = logs.findIndex((log) => isLooked([log], at))
  const pieces = piecesOf(covering < 0 ? logs : logs.slice(0, covering + 1), read)
  const open = pieces.filter((piece) => piece.from !== null && piece.from < at && at < piece.exact)
  const isTold = covering >= 0 || pieces.some((piece) => isBehind(piece, at))
  return { open, isKnown: !looks || isTold || (isUpTo(from.caughtUp, at) && ahead.length < LOOK_AHEAD) }
}

/** The structure at a position between two looks: as it was before the changes that may lie around it, and these are told. */
async function betweenLooks(
  from: Ingredients,
  found: DatabaseManifest,
  { open, isKnown }: Looked,
  rowColumns: () => Promise<Map<number, string[]>>,
): Promise<Omit<StructureAtPosition, 'awaits'>> {
  const missing = doubtsOf(found, from.full.member, found.name)
  if (!isKnown) missing.push({ path: pathOf(from.full.member, found.name), reason: UNLOOKED, note: true })
  const columns = open.length > 0 ? await rowColumns() : new Map<number, string[]>()
  let shown = found
  const readings = await Promise.all(open.map(({ read }) => read()))
  for (const later of readings) {
    const seen = seenIn(shown, later, columns)
    if (seen) shown = merge(from, shown, later, [seen], [])
  }
  const doubts = new Map(readings.flatMap((later) => differing(from, shown, later)).map((lack) => [lack.path, lack]))
  return { structure: { ...shown, missing: [...missing, ...doubts.values()] }, settled: isKnown }
}

/** Tables that rows in the log show to have been by then as they were read next. */
function seenIn(found: DatabaseManifest, later: DatabaseManifest, seen: Map<number, string[]>): StructureStep | null {
  const columnsOf = (columns: string[] | undefined) => JSON.stringify([...(columns ?? [])].sort())
  const tables = later.tables.filter(({ oid, columns }) => {
    const was = found.tables.find((table) => table.oid === oid)
    const rows = seen.get(oid)
    return rows && columnsOf(rows) === columnsOf(columns) && columnsOf(was?.columns) !== columnsOf(columns)
  })
  if (tables.length === 0) return null
  const touched = tables.map(({ oid }) => `${CATALOG.relation}/${oid}`)
  return { end: '0/0', tables, touched, gone: [], followed: {}, more: false }
}

function merge(
  from: Ingredients,
  before: DatabaseManifest,
  after: DatabaseManifest | null,
  steps: StructureStep[],
  beyond: StructureStep[],
): DatabaseManifest {
  const touches = new Touches(steps, beyond)
  const tables = withNamesOf(tablesAfter(before, steps, after), before.tables, steps)
  const missing: Missing[] = steps.some(({ untold }) => untold)
    ? [{ path: pathOf(from.full.member, before.name), reason: UNTOLD, note: true }]
    : []
  const known = new Map(tables.map((table) => [`${CATALOG.relation}/${table.oid}`, table]))
  const unread = new Set(known.keys())
  const rewritten = new Set<string>()
  const read = after ?? { ...before, entries: [], sequences: [], others: [] }
  const origins = new Map<string, 'before' | 'after'>()
  const isSame = sameBut(before.entries, read.entries)
  const doubts = { before: doubtfulKeys(before), after: doubtfulKeys(read) }
  const ids = { before: keysById(before.entries), after: keysById(read.entries) }
  const needsOf = ({ entries }: ThingParts) =>
    (['before', 'after'] as const).flatMap((from) =>
      (entries[from] ?? []).flatMap(({ needs }) => needs.flatMap((id) => ids[from].get(id) ?? [])),
    )
  const choose = (thing: string, parts: ThingParts) => {
    const { before: earlier, after: now } = parts.entries
    // Statements that attach a partition are written as the tables say.
    const same = !thing.includes('/') || (earlier !== null && now !== null && isSame(earlier, now))
    const { from: chosen, exact } = after
      ? touches.of(thing, parts, same, needsOf(parts))
      : { from: 'before' as const, exact: !touches.isEarly(thing, parts) }
    if (chosen) for (const key of parts[chosen] ?? []) origins.set(key, chosen)
    unread.delete(thing)
    // Statements that attach a partition are no objects, and written as the tables say.
    const isDoubtful = chosen !== null && thing.includes('/') && parts[chosen]!.some((key) => doubts[chosen].has(key))
    // How a table was is known in any case, though nobody wrote down a statement that makes it so.
    if (known.has(thing) && (!exact || (isDoubtful && touches.isEarly(thing, parts)))) rewritten.add(thing)
    else if (chosen !== null && (!exact || isDoubtful)) missing.push(inexact(from, thing, [before, read], exact ? MOVED : INEXACT))
    return chosen
  }
  const merged = mergeStructures(before, read, choose, () => renamer(before.entries, read.entries, tables, (key) => origins.get(key)))
  const wrong = [...rewritten, ...[...unread].filter((thing) => touches.isEarly(thing, { before: null, after: null }))]
  const sequences = after ? sequencesOf(before, after, merged, tables) : before.sequences
  const rewrites = rewriteTables(
    merged,
    wrong.map((thing) => known.get(thing)!),
    { before, after: read },
    (key) => origins.get(key),
    sequences,
  )
  const entries = inOrder(withAttachments(rewrites, tables))
  missing.push(...neverRead(from, before, read, steps, touches), ...partsUnknown(wrong, known, origins, [before, read], after !== null))
  const populated = new Set([...before.others, ...read.others].filter((other) => other.populated).map(({ path }) => path))
  const others = othersOf(entries, from.full.member, before.name, populated)
  return { ...before, entries, tables, sequences, others, missing }
}

const keysById = (entries: StructureEntry[]) => new Map(entries.map((entry) => [entry.id, keyOf(entry)]))

/** Writes the entries of tables anew whose structure is known as of a moment at which nobody read them. */
function rewriteTables(
  entries: StructureEntry[],
  tables: TableManifest[],
  read: Record<'before' | 'after', DatabaseManifest>,
  originOf: (key: string) => 'before' | 'after' | undefined,
  sequences: SequenceState[],
): StructureEntry[] {
  if (tables.length === 0) return entries
  const readings = [read.after, read.before]
  let id = Math.max(0, ...entries.map((entry) => entry.id))
  const all = readings.flatMap((reading) => reading.tables)
  const around = {
    nextId: () => ++id,
    entries,
    oidOf: (key: string) => [...tables, ...all].find(({ schema, name }) => thingKey(schema, name) === key)?.oid ?? null,
  }
  const roots = rootsOf(entries, sequences)
  let result = entries
  for (const table of tables) {
    const root = entries.find((entry) => isTableEntry(entry) && entry.oid === table.oid)
    const parts = root ? entries.filter((entry) => roots.get(entry.id) === root.id) : []
    const origin = originOf(`${CATALOG.relation}/${table.oid}`)
    const earlier = origin && read[origin].tables.find(({ oid }) => oid === table.oid)
    // Its entries have the names of the moment by now.
    const as = earlier && calledAs(earlier, table)
    const fresh = entriesOfTable(table, root && as ? { table: as, entries: parts } : null, around)
    const gone = new Set(parts.map((entry) => entry.id))
    const at = Math.max(
      0,
      result.findIndex((entry) => entry.id === root?.id),
    )
    const others = result.filter((entry) => !gone.has(entry.id))
    result = root ? [...others.slice(0, at), ...fresh, ...others.slice(at)] : [...others, ...fresh]
  }
  return inOrder(result)
}

/**
 * Tables as they were after the last of some steps. Those that were touched and not described, because they were too
 * many, are taken as they were read next.
 */
function tablesAfter(before: DatabaseManifest, steps: StructureStep[], after: DatabaseManifest | null): TableManifest[] {
  const tables = new Map(before.tables.map((table) => [table.oid, table]))
  const touched = new Set(steps.flatMap((step) => step.touched))
  for (const table of after?.tables ?? []) if (touched.has(`${CATALOG.relation}/${table.oid}`)) tables.set(table.oid, table)
  for (const step of steps) {
    for (const key of step.gone) {
      const [catalog, oid] = key.split('/').map(Number)
      if (catalog === CATALOG.relation) tables.delete(oid!)
    }
    for (const table of step.tables) tables.set(table.oid, table)
  }
  return [...tables.values()].sort((a, b) => (a.path < b.path ? -1 : 1))
}

/** Sequences of the entries that were chosen, with their state where it was read. */
function sequencesOf(before: DatabaseManifest, after: DatabaseManifest, entries: DatabaseManifest['entries'], tables: TableManifest[]) {
  const there = new Set(entries.filter(({ type }) => type === 'SEQUENCE').map(({ schema, name }) => JSON.stringify([schema, name])))
  const owned = (reading: DatabaseManifest) => reading.sequences.map((sequence) => ownedAt(sequence, reading.tables, tables))
  const found = new Map([...owned(after), ...owned(before)].map((owner) => [JSON.stringify([owner.schema, owner.name]), owner]))
  return [...found].filter(([key]) => there.has(key)).map(([, sequence]) => sequence)
}

/** A sequence with the table whose column owns it under the name that this has at the moment. */
function ownedAt(sequence: SequenceState, before: TableManifest[], tables: TableManifest[]): SequenceState {
  const [schema, name] = sequence.ownedBy ?? []
  const oid = before.find((table) => table.schema === schema && table.name === name)?.oid
  const table = tables.find((table) => table.oid === oid)
  return table ? { ...sequence, ownedBy: [table.schema, table.name] } : sequence
}

/** What older rows hold in a column is known best when the column is new: writing the table anew forgets it. */
async function firstFills(from: Ingredients, read: Read): Promise<Map<string, string>> {
  const fills = new Map<string, string>()
  const take = ({ oid, numbers, fills: texts }: TableManifest) =>
    numbers?.forEach((number, i) => {
      const key = `${oid} ${number}`
      if (!fills.has(key)) fills.set(key, texts?.[i] ?? '\\N')
    })
  for (const { structure, steps } of from.logs) {
    for (const step of steps ?? []) step.tables.forEach(take)
    if (structure) (await read(structure.chunks)).tables.forEach(take)
  }
  return fills
}

const fillsOf = (table: TableManifest, first: Map<string, string>): string[] =>
  (table.numbers ?? []).map((number, i) => first.get(`${table.oid} ${number}`) ?? table.fills?.[i] ?? '\\N')
