import { randomUUID } from 'node:crypto'
import { sql } from 'kysely'
import type pg from 'pg'
import { laterPosition } from '../../core/chain/position'
import { grouped } from '../../core/grouped'
import { refAtPosition } from '../../core/chain/moment-ref'
import { massRemoved, type LostTable } from '../../core/changes/losses'
import type { HeavyTransaction, LogRelation, ChangeTally } from '../../core/changes/log-text'
import { namesOf, pathOf } from '../../core/things/thing'
import type { EngineContext } from '../context'
import { noRows, openPoint, type OpenPoint } from '../points/open'
import type { LostThing, Went } from '../catalog/log-types'
import type { StructureTransaction } from './recorder'
import type { SegmentOwner } from './segment'

/** Longer lists of what went at once are cut here: whoever drops a thousand tables is told of these, and how many. */
const TOLD_AT_MOST = 1000

/** A table that loses its rows more often than this within an hour is used so, and is told of no more until it rests. */
const HABIT = 3
const HABIT_MS = 3_600_000

/** What a stretch of log took away. */
export interface NewLoss {
  kind: 'dropped' | 'columns' | 'removed'
  /** Everything that was committed up to here is from before it. */
  before: string
  end: string
  /** When it was, in the time of the engine; where only looking told, it was there still at `after`. */
  at: Date
  after: Date | null
  xid: string | null
  by: HeavyTransaction['by']
  statement: string | null
  tables: LostThing[]
  went: Went[]
}

const timeOf = (micros: number) => new Date(Math.floor(micros / 1000))

/** Finds out what was lost while a log is followed: from the changes themselves, as they come. */
export class LossFinder {
  private found: NewLoss[] = []
  /** Rows of tables as the source reckons them, as of the last look and of the one before: a mass may have gone since. */
  private had: [Map<number, number>, Map<number, number>] = [new Map(), new Map()]

  /** When rows of a table were lost lately, in milliseconds, by its path. */
  private readonly lostAt = new Map<string, number[]>()
  /** Where each table was changed last, by its path. */
  private readonly lastTouched = new Map<string, string>()

  constructor(
    private readonly source: string,
    private readonly database: string,
  ) {}

  private path = ({ schema, name }: { schema: string; name: string }) => pathOf(this.source, this.database, schema, name)

  /** Asks the source how many rows its tables have about. */
  async measure(client: pg.Client): Promise<void> {
    const { rows } = await client.query<{ oid: number; rows: number }>(
      `select c.oid::int, greatest(c.reltuples, s.n_live_tup)::float8 as rows
       from pg_catalog.pg_class c join pg_catalog.pg_stat_user_tables s on s.relid = c.oid
       where c.relkind = 'r' and (c.reltuples >= 0 or s.n_live_tup > 0)`,
    )
    this.had = [this.had[1], new Map(rows.map(({ oid, rows: count }) => [oid, count]))]
  }

  private rowsOf(oid: number): number | null {
    const known = this.had.flatMap((at) => at.get(oid) ?? [])
    return known.length > 0 ? Math.max(...known) : null
  }

  /** A transaction changed rows of a table, so that it was there then. */
  touched(relation: LogRelation, end: string): void {
    this.lastTouched.set(this.path(relation), end)
  }

  /** A transaction deleted rows. @returns whether that is to be told at once */
  removed(transaction: Omit<HeavyTransaction, 'tallies'>, changes: [LogRelation, ChangeTally][]): boolean {
    const tables = changes.flatMap(([relation, tally]): LostThing[] => {
      const removed = massRemoved(tally, this.rowsOf(relation.oid))
      if (!removed) return []
      const path = this.path(relation)
      if (this.isHabit(path, transaction.at / 1000)) return []
      const isEmptied = tally[3] > 0
      return [{ path, columns: null, rows: removed.rows, isAbout: isEmptied, isRemoved: !isEmptied, isEmptied }]
    })
    if (tables.length === 0) return false
    const { position, end, at, xid, by } = transaction
    this.found.push({
      kind: 'removed',
      before: position,
      end,
      at: timeOf(at),
      after: null,
      xid,
      by,
      statement: null,
      tables: tables.slice(0, TOLD_AT_MOST),
      went: [],
    })
    return true
  }

  /** Queues and staging tables are emptied all day. */
  private isHabit(path: string, at: number): boolean {
    const lately = (this.lostAt.get(path) ?? []).filter((time) => at - time < HABIT_MS)
    // Each time counts, so that it is told again only after an hour of rest.
    this.lostAt.set(path, [...lately.slice(-HABIT), at])
    return lately.length >= HABIT
  }

  /** A transaction dropped tables or columns, as the source told in it. */
  dropped(transaction: StructureTransaction, lost: LostTable[]): void {
    const { position, end, at, xid, by, statement, went } = transaction
    const loss = { before: position, end, at: timeOf(at), after: null, xid, by, statement, went }
    this.addDropped(loss, lost)
  }

  /**
   * What a reading of the structure found to be gone; where it went is known to lie between two places. Whatever was
   * changed in between was there still, so that nothing of it is lost.
   */
  missing(between: { before: string; end: string; after: Date | null; at: Date }, lost: LostTable[]): void {
    const lastOf = (table: LostTable) => laterPosition(this.lastTouched.get(this.path(table)) ?? between.before, between.before)
    const untold = { xid: null, by: null, statement: null, went: [] }
    for (const [before, part] of grouped(lost, lastOf)) this.addDropped({ ...between, ...untold, before }, part)
  }

  private addDropped(loss: Omit<NewLoss, 'kind' | 'tables'>, lost: LostTable[]): void {
    const things = (part: LostTable[]) =>
      part.slice(0, TOLD_AT_MOST).map((table) => ({ path: this.path(table), columns: table.columns, rows: null, isAbout: false }))
    const [whole, parts] = [lost.filter(({ columns }) => columns === null), lost.filter(({ columns }) => columns !== null)]
    if (whole.length > 0) this.found.push({ ...loss, kind: 'dropped', tables: things(whole) })
    if (parts.length > 0) this.found.push({ ...loss, kind: 'columns', tables: things(parts) })
  }

  /** What was found since it was asked last. */
  take(): NewLoss[] {
    const { found } = this
    this.found = []
    return found
  }
}

/** Writes losses down with the segment that holds them, in its transaction. @returns their ids */
export async function recordLosses(tx: EngineContext['db'], owner: SegmentOwner, losses: NewLoss[], now: Date): Promise<string[]> {
  const rows = losses.map(({ before, end, after, tables, went, by, ...loss }) => ({
    ...loss,
    id: randomUUID(),
    vessel_id: owner.vesselId,
    source_id: owner.sourceId,
    member: owner.member,
    before_position: before,
    end_position: end,
    after_at: after,
    by: by === null ? null : JSON.stringify(by),
    tables: JSON.stringify(tables),
    went: JSON.stringify(went),
    found_at: now,
  }))
  if (rows.length > 0) await tx.insertInto('loss').values(rows).execute()
  return rows.map(({ id }) => id)
}

/** Losses of a member that nobody came to count; those that can't be counted are not tried for ever. */
export async function uncounted({ db }: EngineContext, vesselId: string, member: string): Promise<string[]> {
  const rows = await db
    .selectFrom('loss')
    .select('id')
    .where('vessel_id', '=', vesselId)
    .where('member', '=', member)
    .where('counted_at', 'is', null)
    .where('back_at', 'is', null)
    .where('found_at', '>', sql<Date>`now() - interval '7 days'`)
    .orderBy('at')
    .execute()
  return rows.map(({ id }) => id)
}

/** Tables that are heavier than this are not reckoned only to say how many rows they had. */
const RECKONED_BYTES = 2 ** 30

/**
 * Says of losses how many rows their tables had just before, as the log and the points before it tell: about at once,
 * then exactly. What turns out to have had none was no loss.
 *
 * @param tell called when something more is known
 */
export async function countLost(engine: EngineContext, slug: string, ids: string[], tell: () => Promise<void>): Promise<void> {
  for (const id of ids) {
    const loss = await engine.db
      .selectFrom('loss')
      .select(['id', 'member', 'kind', 'before_position', 'at', 'tables'])
      .where('id', '=', id)
      .executeTakeFirst()
    if (!loss) continue
    const { member, before_position: before, at, tables } = loss
    const counted = new Set(tables.flatMap(({ path, isRemoved }) => (isRemoved || loss.kind === 'columns' ? [] : [path])))
    const point = await openPoint(engine, refAtPosition(slug, namesOf(member)[0]!, before, at.getTime() * 1000), noRows)
    await saveCounted(engine, loss, point, counted, () => false)
    await tell()
    const isLight = (path: string) =>
      counted.has(path) && tablesOf(point).some((table) => table.path === path && table.bytes <= RECKONED_BYTES)
    await point.ready(isLight)
    await saveCounted(engine, loss, point, counted, isLight)
    await engine.db
      .updateTable('loss')
      .set({ counted_at: sql<Date>`now()` })
      .where('id', '=', id)
      .execute()
    await tell()
  }
}

const tablesOf = ({ members }: OpenPoint) => members.flatMap(({ manifest }) => manifest.databases.flatMap((database) => database.tables))

async function saveCounted(
  engine: EngineContext,
  { id, kind, tables }: { id: string; kind: NewLoss['kind']; tables: LostThing[] },
  point: OpenPoint,
  counted: ReadonlySet<string>,
  isExact: (path: string) => boolean,
): Promise<void> {
  const rows = new Map(tablesOf(point).map((table) => [table.path, table.rows]))
  const missing = point.members.flatMap(({ manifest }) => manifest.databases.flatMap((database) => database.missing))
  const now = tables.map((table): LostThing => {
    const { path } = table
    const about = missing.find((lack) => lack.path === path)
    const isHeld = rows.has(path)
    const known = about
      ? { ...table, note: about.reason, isUnknown: !about.note }
      : // Without a word of why: what is known of the structure of that moment does not have it, so nothing leads back there.
        { ...table, isUnknown: !isHeld }
    return counted.has(path) && rows.has(path) ? { ...known, rows: rows.get(path)!, isAbout: !isExact(path) } : known
  })
  const nothing = kind === 'removed' && now.every((table) => table.rows === 0 && !table.isAbout)
  if (nothing) await engine.db.deleteFrom('loss').where('id', '=', id).execute()
  else
    await engine.db
      .updateTable('loss')
      .set({ tables: JSON.stringify(now) })
      .where('id', '=', id)
      .where('back_at', 'is', null)
      // What came back meanwhile is noted in it.
      .where(sql<boolean>`not exists (select from jsonb_array_elements(tables) t where t ? 'back')`)
      .execute()
}
