import type { SequenceState, TableManifest } from '../content/manifest'
import type { HeavyTransaction, LogChunk, LogRelation, StructureChange, Tally } from './log-text'

// What the store knows of logs, differentials and incrementals; see docs/formats.md.

/** Since which position the changes of a table are wholly in the log. */
export interface Followed {
  schema: string
  name: string
  /** Null when they are not; then `why` tells. */
  since: string | null
  /** Whether it had no rows when it began to be followed, so that the log alone makes it. */
  born: boolean
  why: string | null
}

/** By object id. */
export type FollowedTables = Record<number, Followed>

/** The structure of a database as it was read while its log was followed. */
export interface StructurePiece {
  /** From this position on it may be used; from `exact` on it is known to be right. */
  from: string
  exact: string
  /** Where the source stood when it was read. */
  read: string
  /** Whether the source told of the change where it happened; else it lies somewhere before `read`. */
  told: boolean
  /** The chunks that hold it, as a database manifest without rows. */
  chunks: string[]
}

/** A stretch of log: every transaction that ended after `from`, up to `to`. */
export interface LogManifest {
  format: 1
  kind: 'log'
  source: string
  database: string
  from: string
  to: string
  /** Source's time in milliseconds since 1970. */
  fromAt: number
  toAt: number
  era: string
  chunks: LogChunk[]
  relations: LogRelation[]
  transactions: number
  heavy: HeavyTransaction[]
  changes: StructureChange[]
  /** Second since 1970, relation, and what was done to it in that second. */
  trace: [second: number, relation: number, ...tally: Tally][]
  sequences: SequenceState[]
  structure: StructurePiece | null
  /** At the end of the segment; before its change of structure, where it has one, it was as `before`. */
  followed: FollowedTables
  before: FollowedTables | null
}

/** Net changes of one table. Its chunks are records as in a log, all of them holding at once. */
export interface NetTable {
  oid: number
  numbers: number[]
  key: number[]
  emptied: boolean
  rows: number
  bytes: number
  chunks: string[]
}

/** What a differential or an incremental holds: the structure at its end, and the net changes since its parent. */
export interface NetManifest {
  format: 1
  kind: 'differential' | 'incremental'
  source: string
  database: string
  from: string
  to: string
  at: string
  era: string
  /** The chunks of the structure at `to`, as a database manifest without rows. */
  structure: string[]
  changed: NetTable[]
  /** Tables that were read whole. */
  whole: TableManifest[]
  followed: FollowedTables
}
