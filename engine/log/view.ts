import { thingKey } from '../../core/restore/sql'
import { sequencesAt, type SequenceAt, type SequenceReading } from '../../core/changes/sequences'
import { plural } from '../../core/time/words'
import { pathOf } from '../../core/things/thing'
import { projectionOf } from '../../core/changes/columns'
import { brokenBy } from '../../core/changes/rewrites'
import type { FollowedTables, LateHole, LogManifest, NetManifest } from '../../core/changes/manifest'
import { newEntries, type ChunkChange } from '../../core/changes/apply'
import type { SharedNet } from '../../core/changes/net'
import { positionOf } from '../../core/chain/position'
import { singleIntegerKey } from '../../core/content/keys'
import {
  NO_ROWS,
  type ChunkRef,
  type DatabaseManifest,
  type Manifest,
  type Missing,
  type SequenceState,
  type TableManifest,
} from '../../core/content/manifest'
import { Semaphore } from '../store/semaphore'
import { gather, tallyOf, type LogRange } from './gather'
import { MomentStore } from './moment-store'
import type { StructureAtPosition } from './structure-at'

/** What a state of one member is made of: a full, what builds on it, and the log up to a position. */
export interface Ingredients {
  full: Manifest
  /** The position at which the full, or the last of the nets, stands. */
  mark: string
  nets: NetManifest[]
  logs: LogManifest[]
  position: string
  at: Date
  /** Whether the moment lies after the mark, even where the log has nothing in between. */
  later: boolean
  /** Up to here the follower knows that nothing was changed since the last segment; null where it does not. */
  caughtUp: string | null
  /** What was found out later of tables whose rows are not known here. */
  holes: LateHole[]
  /** The segments that follow, as far as they were looked into. */
  following: LogManifest[]
}

/** Rows that are new to a table are cut into chunks of about this many bytes. */
const FRESH_BYTES = 1024 * 1024

/** How a table's rows come about. */
type Origin = { base: TableManifest | null; stretch: LogRange | null; note: string | null } | { lost: string }

/**
 * One member at one moment. Its structure is known at once; a table's rows are reckoned when they are first asked
 * for, and then read through the store like any other.
 */
export class MemberView {
  readonly manifest: Manifest
  private readonly database: DatabaseManifest
  /** Its structure without rows, with the tables whose rows are not known, and what is told of the structure alone. */
  readonly structure: DatabaseManifest
  /** Tables that are there, and whose rows are not known. */
  readonly lost: TableManifest[] = []
  private readonly origins = new Map<string, Extract<Origin, { base: unknown }>>()
  private readonly reckoned = new Map<string, Promise<void>>()
  /** Whether all that can be known of its structure is known by now. */
  readonly settled: boolean
  /** Bytes of changes that are held, because rows are made of them each time they are read. */
  held = 0

  constructor(
    readonly store: MomentStore,
    private readonly from: Ingredients,
    { structure, settled }: StructureAtPosition,
    /** Up to where the log was stored when it was made, where more of it may tell more of this moment; else null. */
    readonly awaits: string | null,
  ) {
    this.settled = settled
    this.structure = {
      ...structure,
      missing: eachOnce([...from.full.databases[0]!.missing.filter(({ note }) => note), ...structure.missing]),
    }
    const missing = [...this.structure.missing]
    const followed = followedAt(from) ?? from.nets.at(-1)?.followed ?? null
    const tables = structure.tables.flatMap((table) => this.place(table, followed, missing))
    this.database = {
      ...structure,
      position: from.position,
      at: from.at.toISOString(),
      tables,
      sequences: this.sequences(from, structure, missing),
      missing,
      largeObjects: from.full.databases[0]!.largeObjects ?? null,
    }
    if (this.database.largeObjects)
      missing.push({
        path: this.database.largeObjects.path,
        reason: `Large objects are in no log; they are as of ${from.full.databases[0]!.at.slice(0, 19).replace('T', ' ')} UTC.`,
        note: true,
      })
    this.manifest = { ...from.full, databases: [this.database] }
  }

  private sequences(from: Ingredients, structure: DatabaseManifest, missing: Missing[]): SequenceState[] {
    const wanted = structure.entries.filter(({ type }) => type === 'SEQUENCE').map(({ schema, name }) => ({ schema: schema ?? '', name }))
    const found = sequencesAt(readingsOf(from, structure), from.position, wanted)
    const path = pathOf(from.full.member, structure.name, 'sequences')
    const namesOf = (some: SequenceAt[]) =>
      some
        .slice(0, 5)
        .map(({ state }) => `${state.schema}.${state.name}`)
        .join(', ')
    const [ahead, back] = [found.filter((sequence) => sequence.ahead), found.filter((sequence) => sequence.setBack)]
    if (ahead.length > 0)
      missing.push({
        path,
        reason: `${plural(ahead.length, 'sequence')} may be ahead of this moment, never behind it: ${namesOf(ahead)}.`,
        note: true,
      })
    if (back.length > 0)
      missing.push({
        path,
        reason: `${plural(back.length, 'sequence')} had just been, or would soon be set back: ${namesOf(back)}. What it had given is known as far as it was read before.`,
        note: true,
      })
    // Who owns it is told by the structure; where it stands may have been read when that had another name.
    const owners = new Map(structure.sequences.map(({ schema, name, ownedBy }) => [thingKey(schema, name), ownedBy]))
    return found.map(({ state }) => ({ ...state, ownedBy: owners.get(thingKey(state.schema, state.name)) ?? state.ownedBy }))
  }

  private place(table: TableManifest, followed: FollowedTables | null, missing: Missing[]): TableManifest[] {
    if (table.structure.kind !== 'table') return [table]
    const origin = originOf(table, this.from, followed)
    if ('lost' in origin) {
      missing.push({ path: table.path, reason: origin.lost })
      this.lost.push(table)
      return []
    }
    if (origin.note) missing.push({ path: table.path, reason: origin.note, note: true })
    const { base, stretch } = origin
    this.origins.set(table.path, origin)
    const before = base ?? NO_ROWS
    if (base && !stretch && projectionFor(base, table) === null) {
      this.reckoned.set(table.path, Promise.resolve())
      return [{ ...table, rows: base.rows, bytes: base.bytes, fingerprint: base.fingerprint, chunks: base.chunks }]
    }
    // Until it is reckoned: what the logs say came and went.
    const [inserted, , deleted, emptied] = stretch ? tallyOf(table.oid, stretch) : [0, 0, 0, 0]
    const rows = Math.max(0, (emptied > 0 ? 0 : before.rows) + inserted - deleted)
    const bytes = Math.round(before.rows > 0 ? (before.bytes / before.rows) * rows : rows * 64)
    return [{ ...table, ...NO_ROWS, rows, bytes }]
  }

  /** Reckons the rows of tables, so that their chunks, counts and fingerprints hold. */
  async ready(wanted: (path: string) => boolean): Promise<void> {
    for (const table of this.database.tables) {
      if (table.structure.kind !== 'table' || !wanted(table.path)) continue
      let reckoning = this.reckoned.get(table.path)
      if (!reckoning) {
        reckoning = this.reckon(table, this.origins.get(table.path)!)
        this.reckoned.set(table.path, reckoning)
        reckoning.catch(() => this.reckoned.delete(table.path))
      }
      await reckoning
    }
  }

  /** Tables whose rows at this moment come of the log, and are known exactly. */
  fromLog(): TableManifest[] {
    return this.database.tables.filter(({ path }) => this.origins.get(path)?.note === null)
  }

  /** The chunks in the store that a table's rows at this moment rest upon, those of the log aside. */
  restsUpon({ path, oid }: TableManifest): string[] {
    const { base = null, stretch = null } = this.origins.get(path) ?? {}
    const nets = (stretch?.nets ?? []).flatMap(({ changed }) => changed.filter((net) => net.oid === oid).flatMap(({ chunks }) => chunks))
    return [...(base?.chunks ?? []).map(({ name }) => name), ...nets]
  }

  /** The net changes of a table since the state that it is made from; null when there are none. */
  netOf(table: TableManifest): ReturnType<typeof gather> {
    const origin = this.origins.get(table.path)!
    return origin.stretch ? gather(this.store, table, origin.stretch) : Promise.resolve(null)
  }

  /** The net changes of a table in the log after the last mark; null when there are none. */
  netSinceMark(table: TableManifest): ReturnType<typeof gather> {
    const { stretch } = this.origins.get(table.path)!
    return stretch ? gather(this.store, table, { ...stretch, nets: [] }) : Promise.resolve(null)
  }

  private async reckon(table: TableManifest, { base }: { base: TableManifest | null }): Promise<void> {
    const net = (await this.netOf(table))?.share() ?? null
    this.held += net?.bytes.length ?? 0
    const projection = base ? projectionFor(base, table) : null
    const keyColumn = singleIntegerKey(table)
    const chunks: ChunkRef[] = []
    let sum = base && !net?.emptied ? sumOf(base.fingerprint) : [0n, 0n]
    let rows = base && !net?.emptied ? base.rows : 0
    const affected = net && !projection ? affects(net, table) : () => true
    const work = net?.emptied ? [] : (base?.chunks ?? [])
    const reckon = async (chunk: ChunkRef): Promise<{ ref: ChunkRef | null; change: (sum: bigint[]) => bigint[]; rows: number }> => {
      const change: ChunkChange = { net, projection }
      const name = this.store.make({ base: chunk.name, change })
      const { before, ...after } = await this.store.with(name, (task) => this.store.pool.reckon({ ...task, keyColumn }))
      const same = before.fingerprint === after.fingerprint && before.rows === after.rows && !projection
      if (same) this.store.drop(name)
      const ref = same
        ? chunk
        : after.rows === 0
          ? null
          : { name, rows: after.rows, bytes: after.bytes, keys: after.keys, tail: after.tail }
      return {
        ref,
        rows: after.rows - before.rows,
        change: (all) => combine(combine(all, sumOf(before.fingerprint), -1n), sumOf(after.fingerprint), 1n),
      }
    }
    const gate = new Semaphore(this.store.pool.threads + 2)
    const results: (ReturnType<typeof reckon> | ChunkRef)[] = []
    for (const chunk of work) {
      if ((!net && !projection) || !affected(chunk)) {
        results.push(chunk)
        continue
      }
      const leave = await gate.enter()
      const reckoning = reckon(chunk).finally(leave)
      reckoning.catch(() => undefined)
      results.push(reckoning)
    }
    for (const result of results) {
      if (!(result instanceof Promise)) chunks.push(result)
      else {
        const { ref, change, rows: more } = await result
        if (ref) chunks.push(ref)
        sum = change(sum)
        rows += more
      }
    }
    for (const fresh of net ? this.fresh(net) : []) {
      const { before: _, ...after } = await this.store.with(fresh, (task) => this.store.pool.reckon({ ...task, keyColumn }))
      chunks.push({ name: fresh, rows: after.rows, bytes: after.bytes, keys: after.keys, tail: after.tail })
      sum = combine(sum, sumOf(after.fingerprint), 1n)
      rows += after.rows
    }
    const bytes = chunks.reduce((all, chunk) => all + chunk.bytes, 0)
    Object.assign(table, { chunks, rows, bytes, fingerprint: sum.map((half) => half.toString(16).padStart(16, '0')).join('') })
  }

  private *fresh(net: SharedNet): Generator<string> {
    let entries: number[] = []
    let bytes = 0
    for (const entry of newEntries(net)) {
      entries.push(entry)
      bytes += net.entries[entry * 4 + 1]! - net.entries[entry * 4]!
      if (bytes < FRESH_BYTES) continue
      yield this.store.make({ net, entries })
      entries = []
      bytes = 0
    }
    if (entries.length > 0) yield this.store.make({ net, entries })
  }
}

const MASK = (1n << 64n) - 1n
const sumOf = (fingerprint: string): bigint[] => [BigInt(`0x${fingerprint.slice(0, 16)}`), BigInt(`0x${fingerprint.slice(16)}`)]
const combine = (a: bigint[], b: bigint[], sign: bigint) => a.map((half, i) => (half + sign * b[i]!) & MASK)

const projectionFor = (base: TableManifest, table: TableManifest) =>
  base.numbers && table.numbers ? projectionOf(base.numbers, table.numbers, table.fills ?? []) : null

/** Which chunks may hold a row that was changed; told from the ranges of a single integer key. */
function affects(net: SharedNet, table: TableManifest): (chunk: ChunkRef) => boolean {
  if (net.keyAt.length !== 1 || net.keyAt[0] !== singleIntegerKey(table)) return () => true
  const decoder = new TextDecoder()
  const keys: bigint[] = []
  for (let at = 0; at < net.entries.length; at += 4) {
    const [start, end] = [net.entries[at + 2]!, net.entries[at + 3]!]
    if (start !== 0xffffffff) keys.push(BigInt(decoder.decode(net.bytes.slice(start, end))))
  }
  const sorted = BigInt64Array.from(keys).sort()
  return ({ keys: range }) => {
    if (!range) return true
    const [min, max] = [BigInt(range[0]), BigInt(range[1])]
    let [low, high] = [0, sorted.length]
    while (low < high) {
      const middle = (low + high) >> 1
      if (sorted[middle]! < min) low = middle + 1
      else high = middle
    }
    return low < sorted.length && sorted[low]! <= max
  }
}

/** What is known of the tables at a position. */
function followedAt({ logs, position }: Ingredients): FollowedTables | null {
  const log = logs.at(-1)
  if (!log) return null
  const { before, structure, steps, followed } = log
  const at = positionOf(position)!
  if (!before || at >= positionOf(log.to)!) return followed
  if (!steps?.length && structure) {
    if (at < positionOf(structure.from)!) return before
    // What went somewhere in between was followed for as long as it was there.
    return at < positionOf(structure.exact)! ? { ...before, ...followed } : followed
  }
  if (!steps?.length) return followed
  return Object.assign({}, before, ...steps.filter(({ end }) => positionOf(end)! <= at).map((step) => step.followed)) as FollowedTables
}

/**
 * Why the rows of a table are not known at a position, which was found out later. What is wrong of them began somewhere
 * between where the hole begins and `since`, so whatever was read before `since` may be from before it.
 */
function lateHoleOf(oid: number, { holes, position }: Ingredients, stands: string): string | null {
  const at = positionOf(position)!
  const found = holes.find(({ from, tables }) => {
    const table = tables[oid]
    return table && positionOf(from)! < at && (positionOf(from)! >= positionOf(stands)! || isBehind(table.since, stands))
  })
  return found ? (found.tables[oid]!.why ?? 'Its structure was changed.') : null
}

const isBehind = (position: string | null, other: string) => position !== null && positionOf(position)! > positionOf(other)!

/** How the rows of a table at the position come about. */
function originOf(table: TableManifest, from: Ingredients, followed: FollowedTables | null): Origin {
  const database = from.full.databases[0]!
  let base = database.tables.find(({ oid }) => oid === table.oid) ?? null
  let stands = database.position
  let nets = from.nets
  for (const [i, net] of from.nets.entries()) {
    const whole = net.whole.find(({ oid }) => oid === table.oid)
    if (!whole) continue
    base = whole
    stands = net.to
    nets = from.nets.slice(i + 1)
  }
  const known = followed?.[table.oid]
  // No log leads on from the mark: what it holds is what there is.
  if (!followed || (!from.later && nets.length === 0))
    return base ? { base, stretch: null, note: null } : { lost: 'It is not in the full that this moment builds upon.' }
  const stretch: LogRange = {
    nets: nets.filter((net) => net.changed.some(({ oid }) => oid === table.oid)),
    logs: from.logs,
    from: from.mark,
    to: from.position,
  }
  const late = base ? lateHoleOf(table.oid, from, stands) : null
  if (late !== null) return { lost: unknown(late) }
  // It was read whole at just this position.
  if (base && stands === from.position) return { base, stretch: null, note: null }
  const changes = stretch.nets.length > 0 || tallyOf(table.oid, stretch).some((count) => count > 0) || holdsOpenly(table.oid, stretch)
  const follows = known?.since && table.numbers
  if (follows && positionOf(known.since!)! <= positionOf(stands)! && base) return { base, stretch: changes ? stretch : null, note: null }
  if (follows && known.born && (!base || positionOf(known.since!)! > positionOf(stands)!))
    return { base: null, stretch: changes ? stretch : null, note: null }
  if (!base) return { lost: unknown(known?.why ?? 'It was not followed.') }
  const isHole = known?.hole !== undefined && (isBehind(known.hole, stands) || isBehind(known.since, stands))
  const broken = isHole ? (known.why ?? '') : base.numbers ? brokenBy(base, table, null) : null
  if (broken !== null) return { lost: unknown(broken) }
  const when = stands === database.position ? database.at : (from.nets.find(({ to }) => to === stands)?.at ?? database.at)
  return {
    base,
    stretch: null,
    note: `Its rows are as of ${when.slice(0, 19).replace('T', ' ')} UTC. ${known?.why ?? 'It is not followed.'}`,
  }
}

const eachOnce = (missing: Missing[]): Missing[] => [...new Map(missing.map((lack) => [`${lack.path} ${lack.reason}`, lack])).values()]

const unknown = (why: string) => `Its rows at this moment are not known. ${why}`

/** Whether a table has records in chunks that are counted only in part. */
const holdsOpenly = (oid: number, { logs, to }: LogRange) =>
  logs.some((log) => positionOf(log.to)! >= positionOf(to)! && log.relations.some((relation) => relation.oid === oid))

/** Every time at which the sequences were read, in the order of the log. */
function readingsOf({ full, nets, logs, following }: Ingredients, structure: DatabaseManifest): SequenceReading[] {
  const database = full.databases[0]!
  const ofLog = ({ to, readings, sequences }: LogManifest): SequenceReading[] => [...(readings ?? []), { position: to, sequences }]
  const first = { position: database.position, sequences: database.sequences }
  // What was read with the structure of a net is not at hand; the structure has what was read with it.
  const marked = nets.length > 0 ? [{ position: nets.at(-1)!.to, sequences: structure.sequences }] : []
  return [first, ...marked, ...[...logs, ...following].flatMap(ofLog)]
}
