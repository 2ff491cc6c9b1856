import { positionOf } from '../../core/chain/position'
import type { FollowedTables } from '../../core/changes/manifest'
import type { EngineContext } from '../context'

/** The last verdict of one table. */
export interface TableAudit {
  oid: number
  name: string
  position: string
  at: Date
  equal: boolean
}

/** The last audit of each table of a member in one history of its source. */
export async function lastAudits(engine: EngineContext, vesselId: string, member: string, era: string): Promise<TableAudit[]> {
  const rows = await engine.db
    .selectFrom('log_audit')
    .distinctOn('oid')
    .select(['oid', 'name', 'position', 'at', 'equal'])
    .where('vessel_id', '=', vesselId)
    .where('member', '=', member)
    .where('era', '=', era)
    .orderBy('oid')
    .orderBy('at', 'desc')
    .execute()
  return rows.map((row) => ({ ...row, oid: Number(row.oid) }))
}

/** Up to when the log of a member was audited, which is when the last of its followed tables was; null when not all were, or one differed. */
export function auditedUntil(audits: TableAudit[], tables: FollowedTables): Date | null {
  const equal = new Map(audits.filter((audit) => audit.equal).map((audit) => [audit.oid, audit.at.getTime()]))
  const followed = Object.entries(tables).flatMap(([oid, { since }]) => (since === null ? [] : [Number(oid)]))
  if (followed.length === 0 || followed.some((oid) => !equal.has(oid))) return null
  return new Date(Math.min(...followed.map((oid) => equal.get(oid)!)))
}

/** What audits say of a state at a position, for its receipt: how many of some tables agreed at or after it. */
export function auditWords(audits: TableAudit[], position: string, oids: number[]): string {
  const at = positionOf(position)!
  const agreed = audits.filter((audit) => audit.equal && oids.includes(audit.oid) && positionOf(audit.position)! >= at)
  if (agreed.length === 0) return 'The log that led to this state was not audited since. An audit of the log does that.'
  const last = new Date(Math.max(...agreed.map((audit) => audit.at.getTime()))).toISOString().slice(0, 19).replace('T', ' ')
  const rest = oids.length - agreed.length
  return `Of ${oids.length} tables of this state, the log of ${agreed.length} was audited since and agreed with the source, last at ${last} UTC${rest > 0 ? `; ${rest} not yet` : ''}.`
}

/** A structure that was changed is left to settle for this long before its tables are audited. */
const SETTLED_MS = 60_000
/** An audit begins no sooner than this after another one. */
export const AUDIT_AGAIN_MS = 5 * 60_000
const WEEK_MS = 7 * 24 * 60 * 60_000
const TURNS_OF_A_WEEK = WEEK_MS / AUDIT_AGAIN_MS

/** Followed tables whose turn it is: those that were changed in their structure, and, in the hours for it, a share of those not audited for a week. */
export async function tablesToAudit(
  engine: EngineContext,
  row: { vessel_id: string; member: string; tables: FollowedTables; since: Date },
  isHour: boolean,
): Promise<number[]> {
  const now = engine.clock.now().getTime()
  const due = await engine.db
    .selectFrom('audit_due')
    .select(['oid', 'since'])
    .where('vessel_id', '=', row.vessel_id)
    .where('member', '=', row.member)
    .execute()
  const audits = await engine.db
    .selectFrom('log_audit')
    .select(({ fn }) => ['oid', fn.max('at').as('at')])
    .where('vessel_id', '=', row.vessel_id)
    .where('member', '=', row.member)
    .groupBy('oid')
    .execute()
  const last = new Map(audits.map(({ oid, at }) => [Number(oid), at.getTime()]))
  const followed = Object.entries(row.tables).flatMap(([oid, { since }]) => (since === null ? [] : [Number(oid)]))
  const changed = due.filter(({ since }) => now - since.getTime() >= SETTLED_MS).map(({ oid }) => Number(oid))
  const old = !isHour
    ? []
    : followed
        .filter((oid) => now - (last.get(oid) ?? row.since.getTime()) >= WEEK_MS)
        .sort((a, b) => (last.get(a) ?? 0) - (last.get(b) ?? 0))
        .slice(0, Math.ceil(followed.length / TURNS_OF_A_WEEK))
  return [...new Set([...changed.filter((oid) => followed.includes(oid)), ...old])]
}
