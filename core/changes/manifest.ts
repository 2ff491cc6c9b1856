import type { SequenceState, TableManifest } from '../content/manifest'
import type { LostTable } from './losses'
import type { SequenceReading } from './sequences'
import type { HeavyTransaction, LogChunk, LogRelation, StructureChange, ChangeTally } from './log-text'

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
  /** From here on its rows are others than the log before tells: what was read of it earlier says nothing of it since. */
  hole?: string
}

/** By object id. */
export type FollowedTables = Record<number, Followed>

/** The structure of a database as it was read while its log was followed. */
export interface StructurePiece {
  /** From here on the structure may have been another one than before. */
  from: string
  /** From here on it is known to be right, until the next change. */
  exact: string
  /** Where the source stood when it was read. */
  read: string
  /** Whether the source told of the changes where they happened; else they lie somewhere between `from` and `exact`. */
  told: boolean
  /** One text for the source's catalogs as they were read; another one when anything of the structure is another. */
  digest?: string
  /** The chunks that hold it, as a database manifest without rows. */
  chunks: string[]
}

/** What one transaction made of the structure, as the source told it in that transaction. */
export interface StructureStep {
  /** Position after its commit. */
  end: string
  /** Tables that it touched, as they were from then on, without rows. */
  tables: TableManifest[]
  /** Everything that it touched, and everything that it dropped: catalog and object id, as in `1259/16384`. */
  touched: string[]
  gone: string[]
  /** What it touched that is no table and no part of one, by catalog and object id: its kind and name. */
  named?: Record<string, { kind: string; name: string }>
  /** What became of what is followed. */
  followed: FollowedTables
  /** It also changed something of which the source does not tell what it is (rights). */
  more: boolean
  /** The source could not tell what it did. */
  untold?: true
  /** Tables, and columns of tables, that went. */
  lost?: LostTable[]
}

/** Tables whose rows are not known from a position on, which was found out later. */
export interface LateHole {
  from: string
  tables: FollowedTables
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
  trace: [second: number, relation: number, ...tally: ChangeTally][]
  /** At the end of the segment, and read in between where some had moved. */
  sequences: SequenceState[]
  readings?: SequenceReading[]
  structure: StructurePiece | null
  /** How changes of structure are noticed at the source; absent like `steps`. */
  noticed?: 'trigger' | 'compare'
  /**
   * Up to here nothing had changed since the last structure that is in this segment or before, as far as looking tells.
   * Where changes are told, what was changed behind it while they were not is found by the next reading.
   */
  looked?: string
  /** Changes of the structure in their order; absent in logs that were written before these were told. */
  steps?: StructureStep[]
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
