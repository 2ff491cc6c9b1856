import type { Artifact, DateRange } from '../../core/chain/chain'
import { sortMissing } from '../../core/content/missing'
import { RESTORED, type Proof } from '../../core/restore/receipt'
import { estimateRestore, standingOf, type Pause, type Promises, type Standing } from '../../core/plan/state'
import type { EngineContext } from '../context'
import { lanesOf, newestMoment, stretchesOf, type LaneData, type LifelinePoint } from './lifeline'
import { allVessels, type Vessel } from './vessels'

/** A vessel with its state, as lists and its own page open. */
export interface VesselStanding extends Standing {
  id: string
  slug: string
  name: string
  version: number
  pause: Pause | null
  promises: Promises
  newest: LifelinePoint | undefined
  oldest: Date | null
  points: number
  /** Where every moment can be entered: since when, up to when, and how many holes there are; null without a log. */
  anySecond: { since: Date; until: Date; gaps: number; lastGap: DateRange | null } | null
  /** Bytes and rows that bringing everything back would read. */
  bytes: number
  rows: number
  /** Bytes a second that restores have reached; null before the first. */
  restoreRate: number | null
  /** Points of which something can't be read in the store any more. */
  damaged: number
  /** The last restore of which something was proven equal and nothing was found otherwise; of how many things, and of how many of them. */
  proven: ({ run: string; at: Date } & Proof) | null
  /** The last rehearsal that read all it was asked for, and how long it took. */
  rehearsed: { run: string; at: Date; tookMs: number; things: number } | null
  running: { id: string; kind: string } | null
  /** The marks of the last days, by member. */
  recent: { member: string; marks: { at: Date; kind: Artifact['kind'] }[] }[]
}

const RECENT_MS = 7 * 24 * 3_600_000

export async function standings(engine: EngineContext): Promise<VesselStanding[]> {
  const vessels = await allVessels(engine)
  return Promise.all(vessels.map((vessel) => standingOfVessel(engine, vessel)))
}

export async function standingOfVessel(engine: EngineContext, vessel: Vessel): Promise<VesselStanding> {
  const now = engine.clock.now()
  const data = await lanesOf(engine, vessel.id)
  const moment = newestMoment(data, now)
  const artifacts = moment.chains.flatMap((chain) => chain.artifacts)
  // Logs that follow each other are told as one, of which only the end would be read.
  const bytes = artifacts.reduce((sum, { kind, bytes: size }) => sum + (kind === 'log' ? 0 : size), 0)
  const newest = data.points.at(-1)
  const { lost, atSource } = sortMissing(newest?.missing ?? [])
  const rate = await restoreRate(engine)
  const furthest = moment.chains.map((chain) => chain.at.getTime())
  const damaged = data.points.filter(({ damage }) => damage.length > 0).length
  const standing = standingOf({
    now,
    pause: vessel.pause,
    promises: vessel.definition.promises,
    newest: furthest.length > 0 && moment.missing.length === 0 ? new Date(Math.min(...furthest)) : null,
    backWithin: artifacts.length > 0 ? estimateRestore(bytes, rate) : null,
    damaged: { points: damaged, newest: (newest?.damage.length ?? 0) > 0 },
    missing: lost.length,
    onePlace: atSource.length,
    lastFailure: await lastFailure(engine, vessel.id, newest?.at ?? null),
  })
  return {
    ...standing,
    id: vessel.id,
    slug: vessel.slug,
    name: vessel.name,
    version: vessel.version,
    pause: vessel.pause,
    promises: vessel.definition.promises,
    newest,
    oldest: data.points[0]?.at ?? null,
    points: data.points.length,
    anySecond: anySecondOf(data),
    damaged,
    bytes,
    rows: artifacts.reduce((sum, { kind, rows }) => sum + (kind === 'full' || kind === 'synthetic' ? rows : 0), 0),
    restoreRate: rate,
    proven: await lastProven(engine, vessel.id),
    rehearsed: await lastRehearsed(engine, vessel.id),
    running: await runningOf(engine, vessel.id),
    recent: recentMarks(data, now),
  }
}

function anySecondOf(data: LaneData): VesselStanding['anySecond'] {
  const stretches = stretchesOf(data).filter(({ from, to }) => to > from)
  if (stretches.length === 0) return null
  const [before, after] = stretches.slice(-2)
  return {
    since: stretches[0]!.from,
    until: stretches.at(-1)!.to,
    gaps: stretches.length - 1,
    lastGap: before && after ? { from: before.to, to: after.from } : null,
  }
}

function recentMarks(data: LaneData, now: Date): VesselStanding['recent'] {
  const from = now.getTime() - RECENT_MS
  return data.members.map((member) => ({
    member,
    marks: data.artifacts.filter((a) => a.member === member && a.at.getTime() >= from).map(({ at, kind }) => ({ at, kind })),
  }))
}

async function lastFailure(engine: EngineContext, vesselId: string, since: Date | null): Promise<string | null> {
  let query = engine.db
    .selectFrom('run')
    .select('error')
    .where('vessel_id', '=', vesselId)
    .where('kind', '=', 'backup')
    .where('state', '=', 'failed')
    .orderBy('at', 'desc')
    .limit(1)
  if (since) query = query.where('at', '>', since)
  const row = await query.executeTakeFirst()
  return row ? `The last backup failed. ${row.error?.what ?? ''}`.trim() : null
}

/** Bytes a second that restores of this installation have reached, or null before the first. */
export async function restoreRate(engine: EngineContext): Promise<number | null> {
  const rows = await engine.db
    .selectFrom('run')
    .select(['counters', 'started_at', 'finished_at'])
    .where('kind', '=', 'restore')
    .where('state', 'in', ['done', 'warned'])
    .orderBy('at', 'desc')
    .limit(10)
    .execute()
  // Small ones tell more of the overhead than of the rate.
  const large = rows.filter((row) => (row.counters.bytes ?? 0) > 5e6 && row.started_at && row.finished_at)
  const seconds = large.reduce((sum, row) => sum + (row.finished_at!.getTime() - row.started_at!.getTime()) / 1000, 0)
  return seconds > 0 ? large.reduce((sum, row) => sum + row.counters.bytes!, 0) / seconds : null
}

async function lastProven(engine: EngineContext, vesselId: string): Promise<VesselStanding['proven']> {
  const row = await engine.db
    .selectFrom('run')
    .select(['id', 'finished_at'])
    .where('vessel_id', '=', vesselId)
    .where('kind', '=', 'restore')
    .where('state', '=', 'done')
    .where((eb) => {
      const lines = eb.selectFrom('receipt').select('ordinal').whereRef('receipt.run_id', '=', 'run.id')
      return eb.and([
        eb.exists(lines.where('equal', '=', true).where('outcome', 'in', RESTORED)),
        eb.not(eb.exists(lines.where('equal', '=', false))),
      ])
    })
    .orderBy('finished_at', 'desc')
    .limit(1)
    .executeTakeFirst()
  if (!row) return null
  // Counted by the catalog, as `proofOf` does: a receipt may have as many lines as a database has tables.
  const { things, equal } = await engine.db
    .selectFrom('receipt')
    .select(({ fn }) => [fn.countAll<string>().as('things'), fn.countAll<string>().filterWhere('equal', '=', true).as('equal')])
    .where('run_id', '=', row.id)
    .where('outcome', 'in', RESTORED)
    .where('path', 'like', '%/%')
    .executeTakeFirstOrThrow()
  return { run: row.id, at: row.finished_at!, things: Number(things), equal: Number(equal) }
}

async function lastRehearsed(engine: EngineContext, vesselId: string): Promise<VesselStanding['rehearsed']> {
  const row = await engine.db
    .selectFrom('run')
    .select(['id', 'started_at', 'finished_at', 'outcome'])
    .where('vessel_id', '=', vesselId)
    .where('kind', '=', 'rehearsal')
    .where('state', '=', 'done')
    .orderBy('finished_at', 'desc')
    .limit(1)
    .executeTakeFirst()
  if (!row?.started_at || !row.finished_at) return null
  const of = (row.outcome ?? {}) as Partial<Record<'made' | 'replaced' | 'renamed' | 'merged', number>>
  const things = (of.made ?? 0) + (of.replaced ?? 0) + (of.renamed ?? 0) + (of.merged ?? 0)
  return { run: row.id, at: row.finished_at, tookMs: row.finished_at.getTime() - row.started_at.getTime(), things }
}

async function runningOf(engine: EngineContext, vesselId: string): Promise<VesselStanding['running']> {
  const row = await engine.db
    .selectFrom('run')
    .select(['id', 'kind'])
    .where('vessel_id', '=', vesselId)
    .where('state', 'in', ['waiting', 'running'])
    .orderBy('at', 'desc')
    .limit(1)
    .executeTakeFirst()
  return row ?? null
}
