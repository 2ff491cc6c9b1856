import type { ColumnType, Generated, JSONColumnType } from 'kysely'
import type { FollowedTables, StructurePiece } from '../../core/changes/manifest'
import type { ChangeTally } from '../../core/changes/log-text'
import type { ErrorRecord } from '../../core/errors'
import type { Filled } from '../../core/plan/fill'
import type { Json, Time } from './columns'

/** A table that a loss is about. */
export interface LostThing {
  path: string
  /** Columns that went; null where it is about rows, or about all of it. */
  columns: string[] | null
  /** How many rows went; null where that is not known. */
  rows: number | null
  /** Whether `rows` is the server's own estimate. */
  isAbout: boolean
  /** Whether its rows were deleted one by one, each of which the log counts; or it was emptied as a whole. */
  isRemoved?: boolean
  isEmptied?: boolean
  /** From which other time its rows are just before it, and why; or why the log does not know them at all. */
  note?: string
  isUnknown?: boolean
  /** The run that brought it back. */
  back?: string
}
/** Something that went along with what was dropped. */
export interface Went {
  kind: string
  name: string
}

export interface LogCatalog {
  /** What a log told to be lost. */
  loss: {
    id: string
    vessel_id: string
    source_id: string
    member: string
    kind: 'dropped' | 'columns' | 'removed'
    /** Everything up to here in the log is from before it; and where it had happened. */
    before_position: string
    end_position: string
    at: Time
    /** Where only looking told of it: it was there still then. */
    after_at: Time | null
    xid: string | null
    by: Json<{ user: string; application: string }> | null
    statement: string | null
    tables: Json<LostThing[]>
    went: Json<Went[]>
    found_at: Generated<Date>
    /** When its rows were counted; null while nobody came to it. */
    counted_at: Time | null
    meant_at: Time | null
    back_at: Time | null
    back_run: string | null
  }
  follower: {
    vessel_id: string
    member: string
    source_id: string
    database: string
    state: FollowerState
    slot: string
    publication: string
    /** How changes of structure are noticed. */
    structure: 'trigger' | 'compare'
    /** Up to here everything is in the store; null before the first. */
    position: string | null
    at: Time | null
    /** The source has sent everything up to here, and nothing of it was for us. */
    caught_up_position: string | null
    caught_up_at: Time | null
    era: Generated<string>
    /** Bytes of log that the source keeps for us, and that it has written since. */
    retained: string | number | null
    behind: string | number | null
    /** How what is kept has grown since it was let go last. */
    measured: JSONColumnType<Filled[], string | undefined, string>
    /** Bytes that are free on the disk of its log; null where that can't be seen. */
    log_free: string | number | null
    tables: JSONColumnType<FollowedTables>
    /** Chunks that hold the newest structure that was read. */
    structure_names: Json<StructurePiece> | null
    trouble: Json<ErrorRecord> | null
    since: Time
    warned: Generated<boolean>
  }
  chain_break: {
    id: string
    vessel_id: string
    member: string
    kind: BreakKind
    reason: string
    next: string
    tables: Json<string[]>
    /** Tables whose rows are not known from `from_position` on, where that was found out later. */
    holes: ColumnType<FollowedTables, string | undefined, string>
    from_position: string | null
    from_at: Time | null
    to_at: Time | null
    at: Time
  }
  log_audit: {
    vessel_id: string
    member: string
    era: string
    oid: string | number
    name: string
    position: string
    at: Time
    equal: boolean
    rows: string | number
    /** Fingerprint of the state that the log leads to, and of the table at the source. */
    expected: string
    found: string
    run_id: string
  }
  audit_due: {
    vessel_id: string
    member: string
    oid: string | number
    since: Time
  }
  log_trace: {
    artifact_id: string
    vessel_id: string
    member: string
    second: Time
    name: string
    inserted: number
    updated: number
    deleted: number
    emptied: number
  }
  log_heavy: {
    artifact_id: string
    vessel_id: string
    member: string
    xid: string
    position: string
    end_position: string
    at: Time
    micros: string | number
    application: string | null
    role: string | null
    rows: string | number
    tables: Json<{ name: string; tally: ChangeTally }[]>
  }
  log_structure: {
    artifact_id: string
    vessel_id: string
    member: string
    xid: string | null
    end_position: string
    at: Time
    tag: string
    statement: string | null
    objects: Json<{ kind: string; name: string }[]>
  }
}

export type FollowerState = 'waiting' | 'following' | 'stalled' | 'broken' | 'leaving'
/** Whether a log leads on from where it stands: it is read, or will be from there. */
export const isFollowed = (state: FollowerState | undefined): boolean => state === 'following' || state === 'stalled'
export type BreakKind =
  'slot lost' | 'position' | 'timeline' | 'segment' | 'deleted' | 'structure' | 'limit' | 'paused' | 'source' | 'audit'
