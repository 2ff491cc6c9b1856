import { sql } from 'kysely'
import { NOTHING_MEASURED, type MeasuredSizes } from '../../core/plan/sizes'
import { restoreRate } from '../catalog/standing'
import type { BackupKind } from '../../core/plan/schedule'
import type { EngineContext } from '../context'

const DAY_MS = 86_400_000
/** Runs that are looked at; older ones say little of how much changes now. */
const RUNS = 400

/** What the backups of a vessel have taken so far, as shares of what they were of. Runs tell it, also where their points are gone. */
export async function measuredSizes(engine: EngineContext, vesselId: string): Promise<MeasuredSizes> {
  const runs = await engine.db
    .selectFrom('run')
    .select(['at', sql<BackupKind>`coalesce(params->>'what', 'full')`.as('what')])
    .select(sql<number>`(outcome->>'stored')::float8`.as('stored'))
    .select(sql<number>`coalesce((counters->>'bytes')::float8, 0)`.as('bytes'))
    .where('vessel_id', '=', vesselId)
    .where('kind', '=', 'backup')
    .where('state', 'in', ['done', 'warned'])
    .where(sql<boolean>`outcome ? 'stored'`)
    .orderBy('at', 'desc')
    .limit(RUNS)
    .execute()
  const restoredPerSecond = await restoreRate(engine)
  const all = runs.reverse()
  const plain = all.findLast(({ what, bytes }) => what === 'full' && bytes > 0)?.bytes
  if (plain === undefined) return { ...NOTHING_MEASURED, restoredPerSecond }
  const first = all.find(({ what }) => what === 'full')!
  const perDay = new Perhaps()
  let full: Date | null = null
  let previous: Date | null = null
  for (const { at, what, stored } of all) {
    const isFull = what === 'full' || what === 'synthetic'
    const since = isFull || what === 'differential' ? full : previous
    if (since !== null) perDay.add(isFull ? 'full' : what, stored, (at.getTime() - since.getTime()) / DAY_MS)
    if (isFull) full = at
    previous = at
  }
  return {
    plainBytes: plain,
    full: first.stored / first.bytes,
    changedPerDay: perDay.share('full', plain),
    differentialPerDay: perDay.share('differential', plain),
    incrementalPerDay: perDay.share('incremental', plain),
    logPerDay: await logPerDay(engine, vesselId, plain),
    restoredPerSecond,
  }
}

/** What was stored over how many days, by kind. */
class Perhaps {
  private readonly sums = new Map<string, { stored: number; days: number }>()

  add(kind: string, stored: number, days: number): void {
    const sum = this.sums.get(kind) ?? { stored: 0, days: 0 }
    this.sums.set(kind, { stored: sum.stored + stored, days: sum.days + days })
  }

  share(kind: string, plain: number): number | null {
    const sum = this.sums.get(kind)
    return sum && sum.days > 0 ? sum.stored / sum.days / plain : null
  }
}

async function logPerDay(engine: EngineContext, vesselId: string, plain: number): Promise<number | null> {
  const row = await engine.db
    .selectFrom('artifact')
    .select(({ fn }) => [fn.sum<number>('stored').as('stored'), fn.min('from_at').as('from'), fn.max('at').as('to')])
    .where('vessel_id', '=', vesselId)
    .where('kind', '=', 'log')
    .executeTakeFirstOrThrow()
  const days = row.from && row.to ? (row.to.getTime() - row.from.getTime()) / DAY_MS : 0
  return days > 0 ? Number(row.stored) / days / plain : null
}
