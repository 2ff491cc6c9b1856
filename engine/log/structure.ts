import { randomUUID } from 'node:crypto'
import type pg from 'pg'
import type { LogRelation } from '../../core/changes/log-text'
import type { FollowedTables, LateHole, StructurePiece, StructureStep } from '../../core/changes/manifest'
import { lostBetween, type LostTable } from '../../core/changes/losses'
import { brokenBy } from '../../core/changes/rewrites'
import type { DatabaseManifest, TableManifest } from '../../core/content/manifest'
import { select, type Rule } from '../../core/selection/rules'
import { pathOf } from '../../core/things/thing'
import { DatabaseCapture, withoutRows } from '../sources/postgres/capture'
import { withClient, type PostgresAccess } from '../sources/postgres/connect'
import { catalogDigest } from '../sources/postgres/log/digest'
import { alignPublication, identities, type Identified, type LogTable } from '../sources/postgres/log/install'
import type { RelationMessage } from '../sources/postgres/log/pgoutput'
import { hasMoved } from '../sources/postgres/utilities'
import { isVisible } from '../sources/postgres/log/visible'
import { followedAfter, lateHole, unpublished } from './followed-after'
import { Quiet } from './quiet'
import { holeFrom, StructureModel, type StructureNote } from './structure-model'

/** Whether rules take a table. */
export function takesTable(rules: Rule[], path: string): boolean {
  return select(rules, [{ path, kind: 'table', labels: {}, facts: {} }]).taken.length > 0
}

/** A reading that meets a change beside it is begun again, this often. */
const READ_AGAIN = 8

/** The structure of a database now, as a manifest without rows, and which transactions were visible to the reading. */
export async function readDatabase(
  access: PostgresAccess,
  database: string,
  rules: Rule[],
  signal: AbortSignal,
  exact: { snapshot: string; position: string } | null = null,
): Promise<DatabaseManifest & { visible: string }> {
  for (let attempt = 1; ; attempt++) {
    const capture = await DatabaseCapture.open(access, database, signal, exact)
    try {
      if (capture.hasLost && attempt < READ_AGAIN) continue
      const taken = new Set(select(rules, capture.things).taken.map(({ path }) => path))
      const tables = capture.tables
        .filter((table) => table.structure.kind !== 'foreign' && taken.has(capture.pathOf(table)))
        .map((table) => withoutRows(table, capture.pathOf(table)))
      await capture.limits(taken)
      const manifest = await capture.finish(await capture.structure(), tables, null)
      return { ...manifest, visible: capture.visible }
    } catch (error) {
      if (!hasMoved(error) || attempt >= READ_AGAIN || signal.aborted) throw error
    } finally {
      await capture.close()
    }
  }
}

export interface StructureState {
  /** Tables as they were last read. */
  tables: TableManifest[]
  followed: FollowedTables
}

/** A structure that was read, and whose place in the log is not known yet: its mark is on its way. */
interface Reading {
  mark: string
  manifest: DatabaseManifest & { visible: string }
  digest: string
  /** Nothing had changed up to here. */
  from: string
  /** The source was kept from telling of changes behind `from`. */
  missed: boolean
  /** What is followed by then, where only the reading tells. */
  followed: FollowedTables | null
  added: number[]
  /** What of it went without a word, and when it was there still. */
  lost: LostTable[]
  lostAfter: Date | null
}

/** What a reading gives to the segment in which its mark lies. */
export interface PlacedReading {
  mark: string
  manifest: DatabaseManifest
  piece: Omit<StructurePiece, 'chunks'>
  late: LateHole | null
  lost: LostTable[]
  lostAfter: Date | null
}

export interface WatchedMember {
  database: string
  publication: string
  rules: Rule[]
  trigger: boolean
}

/**
 * Keeps the structure that goes with the log. Where the source tells of its changes, tables are known as of each
 * transaction; definitions of all else are read after each change, while the log goes on, and a mark in the log tells
 * where a reading belongs. What the source does quickly one after the other is read once.
 */
export class StructureWatch {
  readonly model: StructureModel
  private reading: Promise<void> | null = null
  private again = false
  /** Whether a table could not be published, because somebody held it. */
  private held = false
  private readonly added = new Map<number, { end: string; empty: boolean }>()
  private readonly readings: Reading[] = []
  /** Transactions that changed the structure since it was last placed, in their order. */
  private commits: { xid: string; end: string }[] = []
  /** Up to where nothing was changed, where only looking tells. */
  private readonly quietness: Quiet
  private looking: Promise<unknown> = Promise.resolve()
  /** What the last reading said, and how the catalogs were then. */
  private known: string
  private knownDigest: string
  /** Behind this the source was kept from telling of changes; null where it was not. */
  private missedFrom: string | null = null
  private readonly described = new Set<number>()
  failure: unknown = null

  constructor(
    private readonly access: PostgresAccess,
    private readonly member: WatchedMember,
    /** `quiet`: up to here nothing had changed since then, where only looking tells. */
    state: StructureState & { known?: DatabaseManifest; digest?: string; quiet?: string },
    private readonly signal: AbortSignal,
    /** Where the last structure that was read belongs. */
    private exact: string,
    /** Puts a mark into the source's log. */
    private readonly mark: (mark: string) => Promise<void> = async () => undefined,
  ) {
    this.quietness = new Quiet(state.quiet ?? exact, state.digest ?? '')
    this.known = state.known ? textOf(state.known) : ''
    this.knownDigest = state.digest ?? ''
    this.followed = state.followed
    this.model = new StructureModel(state.tables, state.followed, {
      publication: member.publication,
      takes: (schema, name) => this.takes(schema, name),
      pathOf: ({ schema, name }) => pathOf(this.access.name, this.member.database, schema, name),
    })
  }

  /** What is followed, as of the place in the log that was reached. */
  followed: FollowedTables

  takes(schema: string, name: string): boolean {
    return takesTable(this.member.rules, pathOf(this.access.name, this.member.database, schema, name))
  }

  /** The source told of a change, in a transaction that goes on. */
  noted(note: StructureNote): void {
    this.model.note(note)
  }

  /** Takes over a change that is in the store already, and may not have been read yet. */
  replay(step: StructureStep, xid: string | null): void {
    this.model.replay(step)
    if (xid !== null) this.commits.push({ xid, end: step.end })
  }

  /** That transaction was committed. What it made of the structure is known; definitions are read. */
  committed(transaction: { xid: string; end: string }): StructureStep | null {
    const step = this.model.commit(transaction.end)
    this.followed = this.model.followed
    if (step === null) return null
    this.commits.push(transaction)
    this.changed()
    return step
  }

  /** The structure is to be read. */
  changed(): void {
    if (this.reading) this.again = true
    else this.reading = this.read()
  }

  /** What tells of changes was off for a while: what was changed meanwhile is found by reading, and where it was is not known. */
  missed(): void {
    this.missedFrom ??= this.quietness.until
    this.changed()
  }

  /** Tries again what could not be published, because somebody held it. */
  tryHeld(): void {
    if (this.held) this.changed()
  }

  /**
   * Compares the catalogs with how they were. Where no trigger tells of changes this is how they are noticed; where
   * one does, it notices what was done while it was switched off.
   */
  compare(): Promise<boolean> {
    // One look after the other: the second one makes certain what the first one saw.
    const look = this.looking.then(() => this.look())
    this.looking = look.catch(() => undefined)
    return look
  }

  private async look(): Promise<boolean> {
    const answered = this.quietness.begin()
    const look = await withClient(this.access, this.member.database, catalogDigest)
    const changed = answered(look, this.reading !== null)
    if (changed) this.changed()
    return changed
  }

  /** Looks until it is certain what was changed up to a position, or that something was. */
  async lookUntil(position: string): Promise<void> {
    for (let looks = 0; looks < 3 && !this.quietness.isUpTo(position); looks++) if (await this.compare()) return
  }

  /** As `Quiet.ofStore`. */
  quiet(mark: string | null = null): { position: string; at: Date | null } {
    return this.quietness.ofStore(mark)
  }

  /** Until everything that was told so far was read. */
  async settled(): Promise<void> {
    while (this.reading) await this.reading
    if (this.failure) throw this.failure
  }

  private async read(): Promise<void> {
    try {
      do {
        this.again = false
        // Migrations come in several statements.
        await new Promise((resolve) => setTimeout(resolve, 200))
        await this.readOnce().catch((error: unknown) => {
          // Changed again and again while it is read: the log goes on, and it is read as soon as that lets it.
          if (!hasMoved(error)) throw error
          this.again = true
        })
      } while (this.again && !this.signal.aborted)
    } catch (error) {
      this.failure = error
    } finally {
      // In one go with the last look at `again`: what is asked for between the two would be forgotten.
      this.reading = null
    }
  }

  private async readOnce(): Promise<void> {
    const { database, rules, trigger } = this.member
    const missed = this.missedFrom
    const from = missed ?? this.quietness.until
    const lostAfter = this.quietness.ofStore(null).at
    const { found, added, there } = await this.align()
    // Taken before the reading: what is done while it goes on differs from it at the next look, and is read again.
    const look = await withClient(this.access, database, catalogDigest)
    const manifest = await readDatabase(this.access, database, rules, this.signal)
    this.quietness.read(look)
    const reading: Reading = {
      mark: randomUUID(),
      manifest,
      digest: look.digest,
      from,
      missed: missed !== null,
      followed: null,
      added,
      lost: [],
      lostAfter,
    }
    // What came and went since the last reading shows in neither, but in how the catalogs were.
    if (!trigger && added.length === 0 && look.digest === this.knownDigest && textOf(manifest) === this.known) return
    this.known = textOf(manifest)
    this.knownDigest = look.digest
    if (this.missedFrom === missed) this.missedFrom = null
    if (!trigger || missed !== null)
      reading.lost = lostBetween(this.model.tables.filter(isOfRows), manifest.tables, (oid) => there.has(oid))
    if (!trigger) {
      const now = { tables: manifest.tables, identities: found }
      reading.followed = followedAfter(this.model.followed, this.model.tables, now, this.added, { from, at: manifest.position })
      this.model.adopt(manifest.tables)
      this.model.followed = reading.followed
    }
    this.readings.push(reading)
    if (!trigger || reading.missed) this.quietness.unstore({ mark: reading.mark, from })
    await this.mark(reading.mark)
  }

  /** Publishes what can be followed, and nothing whose updates would be refused. */
  private async align(): Promise<{ found: Identified[]; added: number[]; there: Set<number> }> {
    return withClient(this.access, this.member.database, async (client) => {
      const found = await identities(client)
      const wanted = found.filter(({ trouble, schema, name }) => trouble === null && this.takes(schema, name))
      const { added, published } = await alignPublication(client, this.member.publication, { seen: found, wanted })
      await this.noteAdded(client, added)
      this.held = wanted.some(({ oid }) => !published.has(oid))
      // Published by whoever else follows this database, or while nobody looked: since when is not known.
      const late = [...published].filter((oid) => this.model.table(oid) && !this.model.followed[oid]?.since)
      const there = new Set(found.map(({ oid }) => oid))
      return { found: unpublished(found, wanted, published), added: [...new Set([...added.map(({ oid }) => oid), ...late])], there }
    })
  }

  private async noteAdded(client: pg.Client, added: LogTable[]): Promise<void> {
    if (added.length === 0) return
    const { rows } = await client.query<{ position: string }>('select pg_current_wal_lsn()::text as position')
    for (const { oid } of added) if (!this.added.has(oid)) this.added.set(oid, { end: rows[0]!.position, empty: false })
  }

  /** The mark of a reading came by in the log, so that its place is known. Null when it says nothing new. */
  placed(mark: string, end: string): PlacedReading | null {
    const at = this.readings.findIndex((reading) => reading.mark === mark)
    if (at < 0) return null
    const [reading] = this.readings.splice(0, at + 1).slice(-1)
    return this.member.trigger ? this.placedAmongNotes(reading!, end) : this.placedByLooking(reading!, end)
  }

  private placedByLooking({ mark, manifest, digest, from, followed, lost, lostAfter }: Reading, end: string): PlacedReading {
    const before = this.followed
    this.followed = followed ?? before
    this.exact = end
    return {
      mark,
      manifest,
      piece: { from, exact: end, read: manifest.position, told: false, digest },
      late: lateHole(from, before, this.followed),
      lost,
      lostAfter,
    }
  }

  /** Which changes a reading saw is known from the transactions that were visible to it. */
  private placedAmongNotes({ mark, manifest, digest, from, missed, added, lost, lostAfter }: Reading, end: string): PlacedReading | null {
    const seen = this.commits.map(({ xid }) => isVisible(xid, manifest.visible))
    const count = seen.filter(Boolean).length
    // One that committed later in the log was seen, and an earlier one not: this is no place in the log.
    // And what was not told of belongs no further back than here, so that nothing told of may lie between.
    if (seen.slice(0, count).includes(false) || (missed && count < this.commits.length)) {
      if (missed) this.missedFrom ??= from
      this.changed()
      return null
    }
    const exact = missed ? end : count > 0 ? this.commits[count - 1]!.end : this.exact
    const late = count === this.commits.length ? this.adopt(manifest.tables, end) : null
    this.commits = this.commits.slice(count)
    this.exact = exact
    this.model.published(added, end)
    this.followed = this.model.followed
    return {
      mark,
      manifest,
      piece: { from: missed ? from : exact, exact, read: manifest.position, told: !missed, digest },
      late,
      lost,
      lostAfter,
    }
  }

  /**
   * Takes over how tables were read, where nothing changed since. What differs from what was told was changed without
   * a word (while the trigger was off, or could not tell): since when is not known.
   */
  private adopt(tables: TableManifest[], end: string): LateHole | null {
    const holes: FollowedTables = {}
    for (const table of tables) {
      const before = this.model.table(table.oid)
      const why = before && this.model.followed[table.oid] ? brokenBy(before, table, null) : null
      if (why !== null) holes[table.oid] = holeFrom(table, end, why)
    }
    this.model.adopt(tables)
    this.model.followed = { ...this.model.followed, ...holes }
    return Object.keys(holes).length > 0 ? { from: this.exact, tables: holes } : null
  }

  /** How a relation of the log stands to the structure that is known. */
  relationOf({ oid, schema, name, identity, columns }: RelationMessage): LogRelation {
    const names = columns.map((column) => column.name)
    const table = this.model.table(oid)
    const whole = identity === 'f'
    const keyed = whole ? (table?.key ?? []) : columns.filter(({ key }) => key).map((column) => column.name)
    const key = keyed.map((column) => names.indexOf(column)).filter((at) => at >= 0)
    const relation: LogRelation = { oid, schema, name, columns: names, numbers: null, key, whole }
    // Without a trigger, to be told of a table once more is the only sign that it may have changed.
    const again = !this.member.trigger && this.described.has(oid)
    this.described.add(oid)
    if (again) this.changed()
    // Between a change and its reading the names may be those of other columns.
    if (!again && (this.member.trigger || !this.reading)) relation.numbers = this.numbersOf(oid, names)
    return relation
  }

  numbersOf(oid: number, names: string[]): number[] | null {
    const table = this.model.table(oid)
    const numbers = names.map((name) => table?.numbers?.[table.columns.indexOf(name)])
    return numbers.every((number) => number !== undefined) ? (numbers as number[]) : null
  }
}

const isOfRows = ({ structure }: TableManifest) => structure.kind === 'table'

/** What a structure says, in whatever order and under whatever numbers a dump wrote it. */
const textOf = ({ tables, entries }: DatabaseManifest) =>
  JSON.stringify([tables, entries.map(({ type, schema, name, owner, sql, ownerSql }) => [type, schema, name, owner, sql, ownerSql])])
