import { retypedColumn } from '../../core/changes/columns'
import type { LogRelation } from '../../core/changes/log-text'
import type { Followed, FollowedTables, StructurePiece } from '../../core/changes/manifest'
import { laterPosition } from '../../core/chain/position'
import type { DatabaseManifest, TableManifest } from '../../core/content/manifest'
import { select, type Rule } from '../../core/selection/rules'
import { pathOf } from '../../core/things/thing'
import { DatabaseCapture, withoutRows } from '../sources/postgres/capture'
import { withClient, type PostgresAccess } from '../sources/postgres/connect'
import { alignPublication, identities, type Identified, type LogTable } from '../sources/postgres/log/install'
import type { RelationMessage } from '../sources/postgres/log/pgoutput'
import type { StructureNote } from './recorder'

/** Whether rules take a table. */
export function takesTable(rules: Rule[], path: string): boolean {
  return select(rules, [{ path, kind: 'table', labels: {}, facts: {} }]).taken.length > 0
}

/** The structure of a database now, as a manifest without rows. */
export async function readDatabase(
  access: PostgresAccess,
  database: string,
  rules: Rule[],
  signal: AbortSignal,
  exact: { snapshot: string; position: string } | null = null,
): Promise<DatabaseManifest> {
  const capture = await DatabaseCapture.open(access, database, signal, exact)
  try {
    const taken = new Set(select(rules, capture.things).taken.map(({ path }) => path))
    const tables = capture.tables
      .filter((table) => table.structure.kind !== 'foreign' && taken.has(capture.pathOf(table)))
      .map((table) => withoutRows(table, capture.pathOf(table)))
    await capture.limits(taken)
    return await capture.finish(await capture.structure(), tables, null)
  } finally {
    await capture.close()
  }
}

/** Which columns tell a table's rows apart in the log, by the identity that the source writes. */
function keyNumbers(table: TableManifest | undefined): string {
  if (!table?.numbers) return ''
  return (table.key ?? []).map((column) => table.numbers![table.columns.indexOf(column)]).join()
}

const NOT_IN_LOG = 'Its changes up to here are not in the log.'

/**
 * What is known of the tables whose changes are followed, as it goes on with every change of the structure. Rows of
 * a table are restorable from a state at or after `since`, or from nothing when it was born while it was followed.
 */
export function followedAfter(
  before: FollowedTables,
  old: TableManifest[],
  now: { tables: TableManifest[]; identities: Identified[] },
  added: Map<number, { end: string; empty: boolean }>,
  from: string,
): FollowedTables {
  const was = new Map(old.map((table) => [table.oid, table]))
  const identity = new Map(now.identities.map((one) => [one.oid, one]))
  const after: FollowedTables = {}
  for (const table of now.tables) {
    if (table.structure.kind !== 'table') continue
    const { schema, name, oid } = table
    const entry = (since: string | null, born: boolean, why: string | null): Followed => ({ schema, name, since, born, why })
    const { trouble } = identity.get(oid) ?? { trouble: 'It was dropped again.' }
    const known = before[oid]
    const earlier = was.get(oid)
    if (trouble !== null) after[oid] = entry(null, false, trouble)
    else if (known?.since && earlier && !isAnother(earlier, table)) after[oid] = { ...known, schema, name }
    else if (known?.since && !earlier) after[oid] = { ...known, schema, name }
    else if (!known && added.has(oid))
      after[oid] = entry(added.get(oid)!.end, added.get(oid)!.empty, added.get(oid)!.empty ? null : NOT_IN_LOG)
    else after[oid] = entry(laterPosition(added.get(oid)?.end ?? from, from), false, earlier ? reasonOf(earlier, table) : NOT_IN_LOG)
  }
  return after
}

/** Whether rows of a table before can't be read as rows of it now. */
function isAnother(before: TableManifest, now: TableManifest): boolean {
  if (keyNumbers(before) !== keyNumbers(now) || retypedColumn(before, now)) return true
  const grew = (now.numbers ?? []).some((number, i) => !before.numbers?.includes(number) && now.fills?.[i] === '\\N' && hasDefault(now, i))
  return before.filenode !== now.filenode && grew
}

function hasDefault(table: TableManifest, at: number): boolean {
  const column = table.structure.columns.find(({ name }) => name === table.columns[at])
  return column?.default !== null || column?.identity !== null
}

function reasonOf(before: TableManifest, now: TableManifest): string {
  const column = retypedColumn(before, now)
  if (column) return `The type of its column ${column} was changed, which the log does not tell row by row.`
  if (keyNumbers(before) !== keyNumbers(now)) return 'What tells its rows apart was changed.'
  return before.filenode !== now.filenode ? 'Its rows were written anew with the change of its structure.' : NOT_IN_LOG
}

/** Tables that somebody holds could not be published yet; that is tried again. */
export function unpublished(found: Identified[], wanted: LogTable[], published: Set<number>): Identified[] {
  const held = new Set(wanted.filter(({ oid }) => !published.has(oid)).map(({ oid }) => oid))
  return found.map((table) => (held.has(table.oid) ? { ...table, trouble: HELD } : table))
}

const HELD = 'It is held by somebody, so that following it could not begin yet; it is tried again.'

const digestOf = (tables: Identified[]): string => tables.map(({ oid, digest }) => `${oid} ${digest}`).join()

export interface StructureState {
  /** Tables as they were last read. */
  tables: TableManifest[]
  followed: FollowedTables
}

/**
 * Keeps the structure that goes with the log: it is read again after each change, while the log goes on. What the
 * source does quickly one after the other is read once.
 */
export class StructureWatch {
  private reading: Promise<void> | null = null
  private again = false
  /** Whether a table could not be published, because somebody held it. */
  private held = false
  private readonly added = new Map<number, { end: string; empty: boolean }>()
  /** End of the first and the last change that has not been read yet. */
  private pending: { first: string; last: string } | null = null
  /** How the tables were when they were last read or looked at; empty before that. */
  private digest = ''
  /** Names and numbers of columns as the source tells them with each change, ahead of what was read. */
  private readonly live = new Map<number, Map<string, number>>()
  private readonly told = new Set<number>()
  /** Read and not put into the store yet. */
  fresh: { manifest: DatabaseManifest; piece: Omit<StructurePiece, 'chunks'> } | null = null
  failure: unknown = null

  constructor(
    private readonly access: PostgresAccess,
    private readonly member: { database: string; publication: string; rules: Rule[]; trigger: boolean },
    readonly state: StructureState,
    private readonly signal: AbortSignal,
    /** Where the store ends. */
    private readonly since: () => string,
  ) {}

  takes(schema: string, name: string): boolean {
    return takesTable(this.member.rules, pathOf(this.access.name, this.member.database, schema, name))
  }

  /** Our trigger told of a change that was committed at `end`. */
  noted(note: StructureNote, end: string): void {
    for (const [publication, oid, empty] of note.added ?? [])
      if (publication === this.member.publication) this.added.set(oid, { end, empty })
    this.changed(end)
  }

  columnsNoted(note: StructureNote): void {
    for (const [oid, columns] of note.columns ?? []) this.live.set(oid, new Map(columns.map(([number, name]) => [name, number])))
  }

  changed(end: string): void {
    this.pending = { first: this.pending?.first ?? end, last: end }
    if (this.reading) this.again = true
    else this.reading = this.read().finally(() => (this.reading = null))
  }

  /** Reads how it is now, and tells whether that is another structure than was known. */
  async differs(since: string): Promise<boolean> {
    const known = JSON.stringify(this.state.tables)
    this.changed(since)
    await this.settled()
    return JSON.stringify(this.state.tables) !== known
  }

  /** Tries again what could not be published, because somebody held it. */
  tryHeld(since: string): void {
    if (this.held) this.changed(since)
  }

  /** Compares the catalogs with how they were; for sources where no trigger tells of changes. */
  async compare(since: string): Promise<boolean> {
    const now = digestOf(await withClient(this.access, this.member.database, identities))
    const changed = this.digest !== '' && this.digest !== now
    this.digest = now
    if (changed) this.changed(since)
    return changed
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
        await this.readOnce()
      } while (this.again && !this.signal.aborted)
    } catch (error) {
      this.failure = error
    }
  }

  private async readOnce(): Promise<void> {
    const pending = this.pending ?? { first: '0/0', last: '0/0' }
    const { database, rules } = this.member
    const found = await this.align()
    // Taken before the reading: what is done while it goes on differs from it at the next look, and is read again.
    this.digest = digestOf(found)
    const manifest = await readDatabase(this.access, database, rules, this.signal)
    this.state.followed = followedAfter(
      this.state.followed,
      this.state.tables,
      { tables: manifest.tables, identities: found },
      this.added,
      pending.first,
    )
    this.state.tables = manifest.tables
    // Between several changes that were read as one, the structure is only known as of the last of them.
    const from = this.fresh?.piece.from ?? pending.first
    const told = this.member.trigger
    this.fresh = { manifest, piece: { from, exact: told ? pending.last : manifest.position, read: manifest.position, told } }
    if (!this.again) this.pending = null
  }

  /** Publishes what can be followed, and nothing whose updates would be refused. */
  private async align(): Promise<Identified[]> {
    return withClient(this.access, this.member.database, async (client) => {
      const found = await identities(client)
      const wanted = found.filter(({ trouble, schema, name }) => trouble === null && this.takes(schema, name))
      const { added, published } = await alignPublication(client, this.member.publication, wanted)
      if (added.length > 0) {
        const { rows } = await client.query<{ position: string }>('select pg_current_wal_lsn()::text as position')
        for (const { oid } of added) if (!this.added.has(oid)) this.added.set(oid, { end: rows[0]!.position, empty: false })
      }
      this.held = wanted.some(({ oid }) => !published.has(oid))
      return unpublished(found, wanted, published)
    })
  }

  /** How a relation of the log stands to the structure that is known. */
  relationOf({ oid, schema, name, identity, columns }: RelationMessage): LogRelation {
    const names = columns.map((column) => column.name)
    const table = this.state.tables.find((one) => one.oid === oid)
    const whole = identity === 'f'
    const keyed = whole ? (table?.key ?? []) : columns.filter(({ key }) => key).map((column) => column.name)
    const key = keyed.map((column) => names.indexOf(column)).filter((at) => at >= 0)
    const relation: LogRelation = { oid, schema, name, columns: names, numbers: null, key, whole }
    // Without a trigger, to be told of a table once more is the only sign that it may have changed.
    const again = !this.member.trigger && this.told.has(oid)
    this.told.add(oid)
    if (again) this.changed(this.since())
    // Between a change and its reading the names may be those of other columns.
    if (!again && (this.member.trigger || !this.pending)) relation.numbers = this.numbersOf(oid, names)
    return relation
  }

  numbersOf(oid: number, names: string[]): number[] | null {
    const table = this.state.tables.find((one) => one.oid === oid)
    const live = this.live.get(oid)
    const numbers = names.map((name) => (live ? live.get(name) : table?.numbers?.[table.columns.indexOf(name)]))
    return numbers.every((number) => number !== undefined) ? (numbers as number[]) : null
  }
}
