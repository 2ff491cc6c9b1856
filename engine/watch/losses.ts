import { sql } from 'kysely'
import { VesselError } from '../../core/errors'
import { grouped } from '../../core/grouped'
import { parentOf, namesOf, isWithin } from '../../core/things/thing'
import { countInWords, durationInWords } from '../../core/time/words'
import { allVessels, type Vessel } from '../catalog/vessels'
import type { EngineContext } from '../context'
import { resolveMoment } from '../log/moment'
import { readRef } from '../../core/chain/moment-ref'
import { notify } from '../notify'
import { pointsHolding } from '../points/with-path'
import { goneThings } from './gone'
import { refBefore, restoreFrom, type Loss, type LossWay, type ToldLoss } from './loss'
import { rowsLost, toldInWords } from './loss-words'

/** What may well be meant, and nobody said so, is told for so long. */
const TOLD_FOR = { removed: "interval '7 days'", columns: "interval '1 day'" } as const
/** Of so many that are not meant and did not come back nobody reads all. */
const TOLD_AT_MOST = 1000
/** An undo shows its rows one by one, up to so many. */
const UNDO_AT_MOST = 20_000

interface Standing {
  isThere: boolean
  rows: number | null
  /** Where it is gone: it was there still then. */
  goneAfter: Date | null
}

/** Everything that was lost and did not come back, what is newest first; each told once, whoever protects it. */
export async function openLosses(engine: EngineContext, of?: Vessel): Promise<Loss[]> {
  const vessels = await allVessels(engine)
  const losses = await toldLosses(engine, vessels)
  const standing = await standingOf(engine, [...new Set(losses.flatMap(({ tables }) => tables.map(({ path }) => path)))])
  const open = losses.filter(({ meant }) => !meant)
  const groups = oneOfUntold([
    ...grouped(open, ({ source, member, xid, end, kind }) => `${source} ${member} ${xid ?? end} ${kind}`).values(),
  ])
  const fromLogs: Loss[] = []
  for (const again of sameAgain(groups)) {
    const loss = await lossOf(engine, vessels, again, standing)
    if (loss) fromLogs.push(loss)
  }
  const isOfNow = ({ foundAt }: ToldLoss, path: string) => !((standing.get(path)?.goneAfter ?? foundAt) > foundAt)
  const dropped = new Set(
    losses
      .filter(({ kind }) => kind === 'dropped')
      .flatMap((loss) => loss.tables.flatMap(({ path }) => (isOfNow(loss, path) ? [path] : []))),
  )
  const gone = await goneThings(engine, vessels, (path) => dropped.has(path))
  const all = [...fromLogs, ...gone].sort((a, b) => b.at.getTime() - a.at.getTime())
  return of ? all.filter(({ ways }) => ways.some(({ vessel }) => vessel.slug === of.slug)) : all
}

/** What only counting told is counted by each vessel at other times: where these overlap it is one loss. */
function oneOfUntold(groups: ToldLoss[][]): ToldLoss[][] {
  const pathsOf = ({ tables }: ToldLoss) => tables.map(({ path }) => path).join(' ')
  const isOne = (a: ToldLoss, b: ToldLoss) =>
    b.xid === null &&
    a.kind === b.kind &&
    a.vessel.id !== b.vessel.id &&
    pathsOf(a) === pathsOf(b) &&
    a.after! < b.at &&
    b.after !== null &&
    b.after < a.at
  const merged: ToldLoss[][] = []
  for (const group of groups) {
    const [first] = group
    const same = first!.xid === null && first!.after !== null ? merged.find(([other]) => isOne(first!, other!)) : undefined
    if (same) same.push(...group)
    else merged.push([...group])
  }
  return merged
}

/** From so many on, what is alike is told as one. */
const AGAIN_AND_AGAIN = 3

/** Rows of the same tables that were deleted again and again are one loss, of which the newest is told; twice may well be two slips. */
function sameAgain(groups: ToldLoss[][]): ToldLoss[][][] {
  const keyOf = ([first]: ToldLoss[]) =>
    first!.kind === 'removed' ? `${first!.member} ${first!.tables.map(({ path }) => path).join(' ')}` : first!.id
  return [...grouped(groups, keyOf).values()].flatMap((alike) => (alike.length < AGAIN_AND_AGAIN ? alike.map((loss) => [loss]) : [alike]))
}

async function toldLosses(engine: EngineContext, vessels: Vessel[]): Promise<(ToldLoss & { meant: boolean })[]> {
  const byId = new Map(vessels.map((vessel) => [vessel.id, vessel]))
  const isRecent = sql<boolean>`case kind when 'removed' then at > now() - ${sql.raw(TOLD_FOR.removed)}
    when 'columns' then at > now() - ${sql.raw(TOLD_FOR.columns)} else true end`
  const rows = await engine.db
    .selectFrom('loss')
    .selectAll()
    .where('back_at', 'is', null)
    .where(isRecent)
    // What was meant is no news, and yet no thing that is gone without a word.
    .where((eb) => eb.or([eb('meant_at', 'is', null), eb('kind', '=', 'dropped')]))
    .orderBy('at', 'desc')
    .limit(TOLD_AT_MOST)
    .execute()
  return rows.flatMap((row) => {
    const vessel = byId.get(row.vessel_id)
    if (!vessel) return []
    const { id, kind, member, xid, by, statement, went, at } = row
    const tables = row.tables.filter(({ back }) => back === undefined)
    const where = {
      source: namesOf(member)[0]!,
      before: row.before_position,
      end: row.end_position,
      after: row.after_at,
      foundAt: row.found_at,
    }
    return [{ id, vessel, kind, member, xid, by, statement, went, at, tables, ...where, meant: row.meant_at !== null }]
  })
}

/** How tables stand at their sources, as far as was looked. */
async function standingOf(engine: EngineContext, paths: string[]): Promise<Map<string, Standing>> {
  if (paths.length === 0) return new Map()
  const rows = await engine.db
    .selectFrom('thing')
    .select(['thing.path', 'thing.gone_at', 'thing.gone_after', 'thing.facts'])
    .where('thing.path', 'in', paths)
    .execute()
  return new Map(
    rows.map(({ path, gone_at: gone, gone_after: goneAfter, facts }) => [
      path,
      { isThere: gone === null, rows: facts.rows ?? null, goneAfter },
    ]),
  )
}

/** A table that was dropped and is there again, about as full as it was, is no loss: whoever swaps tables does that. */
function isBack(
  { kind, foundAt }: ToldLoss,
  { path, rows }: ToldLoss['tables'][number],
  standing: Map<string, Standing>,
  discovered: Date | null,
): boolean {
  const now = standing.get(path)
  if (kind !== 'dropped') return false
  // It was seen since: that it is gone now is another loss.
  if (now?.goneAfter && now.goneAfter > foundAt) return true
  if (!now?.isThere || discovered === null || discovered <= foundAt) return false
  return rows === null || rows === 0 || (now.rows !== null && now.rows >= rows / 2)
}

/** @param again the loss as each log told it, the newest of those that are alike first */
async function lossOf(
  engine: EngineContext,
  vessels: Vessel[],
  again: ToldLoss[][],
  standing: Map<string, Standing>,
): Promise<Loss | null> {
  const group = again[0]!
  const [first] = group
  const { kind, at, after, foundAt, by, statement, went, source } = first!
  const discovered = await discoveredAt(engine, source)
  const union = new Map(group.flatMap(({ tables }) => tables).map((table) => [table.path, table]))
  const tables = [...union.values()].filter((table) => !isBack(first!, table, standing, discovered))
  if (tables.length === 0) return null
  const paths = tables.map(({ path }) => path)
  const isThere = kind === 'dropped' && discovered !== null && discovered > foundAt && paths.every((path) => standing.get(path)?.isThere)
  return {
    key: `loss ${again
      .flat()
      .map(({ id }) => id)
      .join(' ')}`,
    kind,
    level: kind === 'columns' ? 'warning' : 'error',
    what: toldInWords({ kind, tables }, isThere),
    at,
    after,
    times: again.length,
    by: group.find((loss) => loss.by)?.by ?? by,
    statement,
    went: went.filter(({ kind: what, name }) => !isPartOf(what, name, paths)),
    paths,
    ways: (await waysOf(engine, vessels, group, tables)).map((way) => (again.length > 1 ? ofNewestOnly(way) : way)),
  }
}

/** What leads back before the newest of several losses does not bring what went the times before. */
const ofNewestOnly = (way: LossWay): LossWay =>
  way.kind === 'point' ? way : { ...way, without: [way.without, 'without what was deleted the times before'].filter(Boolean).join('; ') }

/** Constraints, triggers and policies of the tables themselves go with them as a matter of course; so do sequences of their columns. */
function isPartOf(kind: string, name: string, paths: string[]): boolean {
  const names = paths.map((path) => namesOf(path).slice(2).join('.'))
  const plain = name.replaceAll('"', '')
  return names.some((table) => (kind === 'sequence' ? plain.startsWith(`${table}_`) : plain.endsWith(` on ${table}`)))
}

async function discoveredAt(engine: EngineContext, name: string): Promise<Date | null> {
  const row = await engine.db.selectFrom('source').select('discovered_at').where('name', '=', name).executeTakeFirst()
  return row?.discovered_at ?? null
}

/** The ways back from a loss, the best first: just before it by a log, then what points hold. */
async function waysOf(engine: EngineContext, vessels: Vessel[], group: ToldLoss[], tables: ToldLoss['tables']): Promise<LossWay[]> {
  const [moments, points, undos]: LossWay[][] = [[], [], []]
  const paths = tables.map(({ path }) => path)
  for (const loss of group) {
    const { vessel, member, before, end, at } = loss
    const lostHere = loss.tables.filter(({ path }) => paths.includes(path))
    if (lostHere.length === 0) continue
    const named = { slug: vessel.slug, name: vessel.name }
    const what = pickOf(loss, lostHere)
    if (!lostHere.every(({ isUnknown }) => isUnknown) && (await leadsThere(engine, loss))) {
      const ref = refBefore(loss)
      const without = lostHere.flatMap(({ path, note }) => (note ? [`${namesOf(path).at(-1)}: ${note}`] : [])).join(' ') || null
      moments!.push({ kind: 'moment', vessel: named, ref, at, without, to: restoreFrom(vessel, ref, what) })
      const rows = rowsLost(lostHere)
      if (loss.kind === 'removed' && rows !== null && rows <= UNDO_AT_MOST && !lostHere.some(({ isEmptied }) => isEmptied))
        undos!.push({
          kind: 'undo',
          vessel: named,
          ref,
          at,
          without: null,
          to: `/vessels/${vessel.slug}/undo?${new URLSearchParams({ member, position: before, end })}`,
        })
    }
    points!.push(...(await pointWays(engine, loss, lostHere, what)))
  }
  const [first] = group
  for (const vessel of vessels.filter(({ id }) => !group.some((loss) => loss.vessel.id === id)))
    points!.push(...(await pointWays(engine, { ...first!, vessel }, tables, pickOf(first!, tables), true)))
  const byTime = (a: LossWay, b: LossWay) => b.at.getTime() - a.at.getTime()
  return [...undos!.slice(0, 1), ...moments!, ...points!.sort(byTime)]
}

/** Whether the log of a vessel leads to just before a loss. */
async function leadsThere(engine: EngineContext, loss: ToldLoss): Promise<boolean> {
  const resolved = await resolveMoment(engine, readRef(refBefore(loss))!).catch((error: unknown) => {
    if (error instanceof VesselError) return null
    throw error
  })
  return resolved?.chains.some(({ member }) => member === loss.member) ?? false
}

function pickOf({ kind }: ToldLoss, tables: ToldLoss['tables']): { pick: string } | { gone: string } {
  const [first] = tables
  if (tables.length === 1 || kind !== 'dropped') return { pick: first!.path }
  // The deepest place that all of them were in.
  let place = parentOf(first!.path)!
  while (!tables.every(({ path }) => isWithin(path, place))) place = parentOf(place)!
  return { gone: place }
}

/**
 * The newest point of a vessel before a loss, and what was changed between them, as far as its log counted it.
 *
 * @param isOther whether the vessel's own log told nothing of it
 */
async function pointWays(
  engine: EngineContext,
  { vessel, at, member }: Pick<ToldLoss, 'vessel' | 'at' | 'member'>,
  tables: ToldLoss['tables'],
  what: { pick: string } | { gone: string },
  isOther = false,
): Promise<LossWay[]> {
  const holding = await pointsHolding(
    engine,
    vessel.id,
    tables.map(({ path }) => path),
    at,
  )
  const newest = [...holding.values()].sort((a, b) => b.at.getTime() - a.at.getTime())[0]
  if (!newest) return []
  const long = durationInWords(at.getTime() - newest.at.getTime())
  const without = isOther
    ? `what was changed in the ${long} before the loss`
    : await changesInWords(engine, { vessel, at, member }, tables, { since: newest.at, long })
  const { slug, name } = vessel
  return [{ kind: 'point', vessel: { slug, name }, ref: newest.id, at: newest.at, without, to: restoreFrom(vessel, newest.id, what) }]
}

/** How much a log counted between a point and a loss. It counts by the second, so that it may be less. */
async function changesInWords(
  engine: EngineContext,
  { vessel, at, member }: Pick<ToldLoss, 'vessel' | 'at' | 'member'>,
  tables: ToldLoss['tables'],
  { since, long }: { since: Date; long: string },
): Promise<string> {
  const secondOf = (time: Date) => new Date(Math.floor(time.getTime() / 1000) * 1000)
  const { changes } = await engine.db
    .selectFrom('log_trace')
    .select(sql<number>`coalesce(sum(inserted + updated + deleted), 0)::float8`.as('changes'))
    .where('vessel_id', '=', vessel.id)
    .where('member', '=', member)
    .where(
      'name',
      'in',
      tables.map(({ path }) => namesOf(path).slice(2).join('.')),
    )
    .where('second', '>=', secondOf(since))
    .where('second', '<=', secondOf(at))
    .executeTakeFirstOrThrow()
  // The loss itself would not be lost.
  const others = Math.max(0, changes - (tables.every(({ isRemoved }) => isRemoved) ? (rowsLost(tables) ?? 0) : 0))
  if (others === 0) return `nothing that the log counted in the ${long} before the loss`
  return `up to ${countInWords(others)} ${others === 1 ? 'change' : 'changes'} of the ${long} before the loss`
}

/** Somebody says that a loss was meant: it is told no more. */
export async function wasMeant(engine: EngineContext, key: string): Promise<void> {
  const [kind, ...rest] = key.split(' ')
  const [gone, ...place] = kind === 'gone' ? rest : []
  const now = sql<Date>`now()`
  const row =
    kind === 'loss'
      ? await engine.db
          .updateTable('loss')
          .set({ meant_at: now })
          .where(sql<boolean>`id::text = any (${rest})`)
          .executeTakeFirst()
      : await engine.db
          .updateTable('thing')
          .set({ gone_meant_at: now })
          // What went from the same place at another time is another loss.
          .where(sql<boolean>`round(extract(epoch from gone_at) * 1000)::text = ${gone ?? ''}`)
          .where((eb) => eb.or([eb('path', '=', place.join(' ')), sql<boolean>`starts_with(path, ${`${place.join(' ')}/`})`]))
          .executeTakeFirst()
  if (row.numUpdatedRows === 0n)
    throw new VesselError('loss_missing', {
      what: 'This loss is not told any more.',
      touched: 'Nothing was changed.',
      next: 'Load the page again.',
      status: 404,
    })
  await notify(engine.db, { about: 'things' })
}
