import type { Consistency, Reached } from '../../core/quiesce/consistency'
import { sql } from 'kysely'
import {
  Chains,
  commonStretches,
  momentOf,
  type Artifact,
  type Moment,
  type RecoveryPoint,
  type CaughtUp,
  type DateRange,
} from '../../core/chain/chain'
import { positionOf } from '../../core/chain/position'
import type { Damage, Missing } from '../../core/content/manifest'
import { auditedUntil, lastAudits } from '../log/audits'
import type { EngineContext } from '../context'
import type { BreakKind, FollowerState } from './log-types'
import type { PlannedAs } from './plan-types'
import type { PinRecord } from './retention-types'

/** A point as the lifeline draws it. */
export interface LifelinePoint extends RecoveryPoint {
  run: string
  comment: string | null
  consistency: Consistency
  /** Which consistency each member reached, and why. */
  reached: Reached | null
  missing: Missing[]
  verifiedAt: Date | null
  /** What of it can't be read any more. */
  damage: Damage[]
  /** Its place in the plan that made it; null where a person did. */
  plan: PlannedAs | null
  pin: PinRecord | null
  /** When it may go, where no plan made it; null: when somebody deletes it. */
  expiresAt: Date | null
  version: number
}

/** A stretch of a member that can't be entered, and why. */
export interface LifelineBreak {
  id: string
  member: string
  kind: BreakKind
  reason: string
  next: string
  /** Only these tables are concerned; empty for the whole member. */
  tables: string[]
  from: Date
  /** Null as long as it goes on. */
  to: Date | null
}

export interface LifelineFollower {
  member: string
  state: FollowerState
  trouble: { what: string; next: string } | null
  /** Bytes of log that the source keeps for us. */
  retained: number | null
  warned: boolean
  structure: 'trigger' | 'compare'
  /** Tables whose changes are not followed, with the reason. */
  unfollowed: { name: string; why: string }[]
}

export interface LifelineData {
  members: string[]
  /** Fulls, synthetic fulls, differentials and incrementals. */
  artifacts: Artifact[]
  points: LifelinePoint[]
  /** By member: up to when its log was audited, where it was wholly. */
  audited: Record<string, Date>
  /** By member: where every moment can be entered. */
  coverage: Record<string, DateRange[]>
  breaks: LifelineBreak[]
  followers: LifelineFollower[]
}

export interface LaneData {
  members: string[]
  artifacts: Artifact[]
  points: LifelinePoint[]
  /** Stretches of log without anything missing in between. */
  logs: Artifact[]
  caughtUp: CaughtUp[]
  chains: Chains
}

/** Everything that decides what of a vessel is restorable. Points that were kept before an overwriting hold a part only, and are not in it. */
export async function lanesOf(engine: EngineContext, vesselId: string): Promise<LaneData> {
  const points = await engine.db
    .selectFrom('point')
    .selectAll()
    .where('vessel_id', '=', vesselId)
    .where('kept_for', 'is', null)
    .orderBy('at')
    .execute()
  const links = await engine.db
    .selectFrom('point_artifact')
    .innerJoin('point', 'point.id', 'point_artifact.point_id')
    .select(['point_id', 'artifact_id'])
    .where('point.vessel_id', '=', vesselId)
    .where('point.kept_for', 'is', null)
    .execute()
  const byPoint = new Map<string, string[]>()
  for (const link of links) byPoint.set(link.point_id, [...(byPoint.get(link.point_id) ?? []), link.artifact_id])
  const wanted = new Set(links.map((link) => link.artifact_id))
  const marks = (await marksOf(engine, vesselId)).filter(({ id }) => wanted.has(id))
  const logs = await logsOf(engine, vesselId)
  const caughtUp = await caughtUpOf(engine, vesselId)
  return {
    members: membersOf(marks, points.at(-1) ? byPoint.get(points.at(-1)!.id)! : []),
    artifacts: marks,
    logs,
    caughtUp,
    chains: new Chains([...marks, ...logs], caughtUp),
    points: points.map((point) => ({
      id: point.id,
      at: point.at,
      name: point.name,
      comment: point.comment,
      plan: point.plan,
      pin: point.pin,
      expiresAt: point.expires_at,
      complete: point.complete,
      artifacts: byPoint.get(point.id) ?? [],
      run: point.run_id,
      consistency: point.consistency,
      reached: point.reached,
      missing: point.missing,
      verifiedAt: point.verified_at,
      damage: point.damage ?? [],
      version: point.vessel_version,
    })),
  }
}

/** The members of the newest point: what the vessel is made of now. */
function membersOf(marks: Artifact[], newest: string[]): string[] {
  const members = marks.filter(({ id }) => newest.includes(id)).map(({ member }) => member)
  return [...new Set(members)].sort()
}

const COLUMNS = [
  'id',
  'member',
  'kind',
  'parent',
  'from_position',
  'position',
  'from_at',
  'at',
  'era',
  'rows',
  'bytes',
  'stored',
  'damaged',
] as const

interface Row {
  id: string
  member: string
  kind: Artifact['kind']
  parent: string | null
  from_position: string
  position: string
  from_at: Date
  at: Date
  era: string
  rows: string | number
  bytes: string | number
  stored: string | number
  damaged: boolean
}

export const artifactOf = (row: Row): Artifact => ({
  id: row.id,
  member: row.member,
  kind: row.kind,
  parent: row.parent,
  from: row.from_position,
  to: row.position,
  fromAt: row.from_at,
  at: row.at,
  era: row.era,
  rows: Number(row.rows),
  bytes: Number(row.bytes),
  stored: Number(row.stored),
  damaged: row.damaged,
})

async function marksOf(engine: EngineContext, vesselId: string): Promise<Artifact[]> {
  const rows = await engine.db
    .selectFrom('artifact')
    .select(COLUMNS)
    .where('vessel_id', '=', vesselId)
    .where('kind', '<>', 'log')
    .orderBy('at')
    .execute()
  return rows.map(artifactOf)
}

/** The logs, with those that follow each other without anything between them as one: thousands of segments are a few stretches. */
export async function logsOf(engine: EngineContext, vesselId: string, without: string[] = []): Promise<Artifact[]> {
  const { rows } = await sql<Row>`
    with ordered as (
      select member, era, id, from_position, position, from_at, at, rows, bytes, stored,
        lag(position) over w is distinct from from_position as begins
      from artifact where vessel_id = ${vesselId} and kind = 'log' and not damaged and id <> all(${without}::uuid[])
      window w as (partition by member, era order by from_position::pg_lsn)),
    numbered as (select *, sum(begins::int) over (partition by member, era order by from_position::pg_lsn) as run from ordered)
    select member, era, (array_agg(id order by from_position::pg_lsn))[1] as id, 'log' as kind, null as parent, min(from_position::pg_lsn)::text as from_position,
      max(position::pg_lsn)::text as position, min(from_at) as from_at, max(at) as at, sum(rows)::bigint as rows, sum(bytes)::bigint as bytes,
      sum(stored)::bigint as stored, false as damaged
    from numbered group by member, era, run`.execute(engine.db)
  return rows.map(artifactOf)
}

async function caughtUpOf(engine: EngineContext, vesselId: string): Promise<CaughtUp[]> {
  const rows = await engine.db
    .selectFrom('follower')
    .select(['member', 'era', 'position', 'at', 'caught_up_position', 'caught_up_at'])
    .where('vessel_id', '=', vesselId)
    .where('position', 'is not', null)
    .where('caught_up_at', 'is not', null)
    .execute()
  return rows
    .filter((row) => positionOf(row.caught_up_position!)! >= positionOf(row.position!)!)
    .map((row) => ({
      member: row.member,
      era: row.era,
      from: row.position!,
      to: row.caught_up_position!,
      fromAt: row.at!,
      at: row.caught_up_at! > row.at! ? row.caught_up_at! : row.at!,
    }))
}

/** What a vessel's lifeline shows. */
export async function lifelineOf(engine: EngineContext, vesselId: string, lanes: LaneData): Promise<LifelineData> {
  const { members, artifacts, points, chains } = lanes
  const breaks = await engine.db.selectFrom('chain_break').selectAll().where('vessel_id', '=', vesselId).orderBy('at').execute()
  const followers = await engine.db.selectFrom('follower').selectAll().where('vessel_id', '=', vesselId).orderBy('member').execute()
  const audited: Record<string, Date> = {}
  for (const { member, era, tables, state } of followers) {
    const until = state === 'following' ? auditedUntil(await lastAudits(engine, vesselId, member, era), tables) : null
    if (until) audited[member] = until
  }
  return {
    audited,
    members: members.length > 0 ? members : followers.map(({ member }) => member),
    artifacts,
    points,
    coverage: Object.fromEntries(members.map((member) => [member, chains.coverage(member)])),
    breaks: breaks.map(({ id, member, kind, reason, next, tables, from_at: from, to_at: to, at }) => ({
      id,
      member,
      kind,
      reason,
      next,
      tables,
      from: from ?? at,
      to,
    })),
    followers: followers.map((row) => ({
      member: row.member,
      state: row.state,
      trouble: row.trouble ? { what: row.trouble.what, next: row.trouble.next } : null,
      retained: row.retained === null ? null : Number(row.retained),
      warned: row.warned,
      structure: row.structure,
      unfollowed: Object.values(row.tables).flatMap(({ schema, name, since, why }) =>
        since === null ? [{ name: `${schema}.${name}`, why: why ?? '' }] : [],
      ),
    })),
  }
}

/** The stretches in which every member of a vessel can be entered. */
export const stretchesOf = ({ members, chains }: LaneData): DateRange[] => commonStretches(members.map((member) => chains.coverage(member)))

export function newestMoment(data: LaneData, now: Date): Moment {
  return momentOf(data.members, data.chains, data.points, now)
}
