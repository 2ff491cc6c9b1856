import type { Rule } from '../selection/rules'
import { patternTrouble } from '../selection/rules'
import { NOT_HELD, quiesceTroubles, type QuiesceSequence } from '../quiesce/sequence'
import { retentionTroubles, type Retention } from './retention'
import { scheduleTroubles, type Schedule } from './schedule'
import type { Promises } from './state'

/** What a person defines of a vessel; saved as numbered versions, never changed afterwards. */
export interface VesselDefinition {
  rules: Rule[]
  store: string
  promises: Promises
  /** Parallel readers per source. */
  readers: number
  /** Absent in definitions from before logs could be followed. */
  log?: LogPlan
  /** Absent in definitions from before anything could be held still. */
  quiesce?: QuiesceSequence
  /** When something that is taken can't be captured: a point of the rest, or none. Absent, a point of the rest. */
  partly?: Partly
  /** When it is backed up by itself. Absent, only when somebody says so. */
  schedule?: Schedule
  /** How long points and log stay. Absent, until somebody deletes them. */
  retention?: Retention
}

export type Partly = 'keep' | 'fail'

/** How the log of each member is followed, where its source has one. */
export interface LogPlan {
  follow: boolean
  /** A segment is closed when its first transaction is this old. */
  everySeconds: number
  /** Or when it has grown to this many bytes. */
  segmentBytes: number
  /** The most that the source may keep back for us; at it the slot is given up. */
  keepAtMost: number
  /** How changes of structure are noticed: a trigger at the source, with consent, or by comparing its catalogs. */
  structure: 'trigger' | 'compare'
  /** Absent in definitions from before its limits could be set. */
  audit?: AuditLimits
}

/** How far an audit of the log may go at the source. */
export interface AuditLimits {
  megabytesPerSecond: number
  /** Hours of the day (UTC) between which tables have their weekly turn; from 22 to 6 goes over midnight. Null: at any time. */
  hours: { from: number; to: number } | null
}

const MIB = 1024 * 1024
export const LOG = {
  seconds: { min: 10, max: 3600 },
  segment: { min: MIB, max: 1024 * MIB },
  keep: { min: 16 * MIB, max: 1024 * 1024 * MIB },
  auditRate: { min: 1, max: 10_000 },
} as const

export const defaultLog = (follow: boolean): LogPlan => ({
  follow,
  everySeconds: 10,
  segmentBytes: 64 * MIB,
  keepAtMost: 1024 * MIB,
  structure: 'trigger',
})

export const ANY_TIME: AuditLimits = { megabytesPerSecond: 40, hours: null }
export const auditOf = (plan: LogPlan): AuditLimits => plan.audit ?? ANY_TIME

/** Whether tables may have their weekly turn at a moment. */
export function isAuditHour({ hours }: AuditLimits, at: Date): boolean {
  if (hours === null) return true
  const hour = at.getUTCHours()
  return hours.from < hours.to ? hour >= hours.from && hour < hours.to : hour >= hours.from || hour < hours.to
}

export const quiesceOf = (definition: VesselDefinition): QuiesceSequence => definition.quiesce ?? NOT_HELD
export const logOf = (definition: VesselDefinition): LogPlan => definition.log ?? defaultLog(false)

function logTroubles({ everySeconds, segmentBytes, keepAtMost, audit }: LogPlan): string[] {
  const troubles: string[] = []
  const whole = (value: number, { min, max }: { min: number; max: number }) => Number.isInteger(value) && value >= min && value <= max
  if (!whole(everySeconds, LOG.seconds)) troubles.push('A segment of log must be closed after 10 seconds to an hour.')
  if (!whole(segmentBytes, LOG.segment)) troubles.push('A segment of log must be 1 MB to 1 GB large at most.')
  if (!whole(keepAtMost, LOG.keep)) troubles.push('The source must be allowed to keep 16 MB to 1 TB of log for us.')
  const { megabytesPerSecond, hours } = audit ?? ANY_TIME
  if (!whole(megabytesPerSecond, LOG.auditRate)) troubles.push('An audit may read 1 to 10,000 MB a second.')
  const isHour = (hour: number) => whole(hour, { min: 0, max: 23 })
  if (hours && (!isHour(hours.from) || !isHour(hours.to) || hours.from === hours.to))
    troubles.push('Hours of audits must be two different whole hours from 0 to 23.')
  return troubles
}

export const READERS = { min: 1, max: 16, default: 2 } as const

/** What keeps a definition from being saved, in words; empty when nothing does. */
export function definitionTroubles(definition: VesselDefinition): string[] {
  const troubles: string[] = []
  if (!definition.rules.some((rule) => rule.act === 'take')) troubles.push('No rule takes anything.')
  for (const rule of definition.rules) {
    const trouble = patternTrouble(rule)
    if (trouble) troubles.push(`The rule “${rule.act} ${rule.kind} ${rule.pattern}” can’t be used. ${trouble}`)
  }
  if (!definition.store) troubles.push('No store is chosen.')
  const { min, max } = READERS
  if (!Number.isInteger(definition.readers) || definition.readers < min || definition.readers > max) {
    troubles.push(`Readers must be a whole number from ${min} to ${max}.`)
  }
  if (definition.log) troubles.push(...logTroubles(definition.log))
  if (definition.quiesce) troubles.push(...quiesceTroubles(definition.quiesce))
  if (definition.retention) troubles.push(...retentionTroubles(definition.retention))
  if (definition.schedule) troubles.push(...scheduleTroubles(definition.schedule))
  return troubles
}
