import type { LogChunk } from '../../core/changes/log-text'
import type { SequenceReading } from '../../core/changes/sequences'
import type { FollowedTables, LogManifest, StructureStep } from '../../core/changes/manifest'
import type { FollowerRow } from './examine'
import type { NewLoss } from './losses'
import type { Recorded } from './recorder'
import type { PlacedReading } from './structure'

/** What a segment says of the structure. */
export interface StructureOfSegment {
  steps: StructureStep[]
  readings: SequenceReading[]
  placed: PlacedReading | null
  before: FollowedTables
  after: FollowedTables
  /** Whether somebody waits for it, so that it is looked what was changed up to its end. */
  awaited: boolean
  losses: NewLoss[]
}

/** What was found when the segment was closed. */
interface Closed {
  source: string
  /** Milliseconds of the last commit before the segment, and of its own last one. */
  fromAt: number
  toAt: number
  chunks: LogChunk[]
  structure: LogManifest['structure']
  sequences: LogManifest['sequences']
  /** Up to where it was looked that nothing else was changed. */
  looked: string
}

/** The record of a segment of log, as it stands in the store. */
export function segmentManifest(
  { database, era, structure: noticed }: FollowerRow,
  recorded: Recorded,
  { steps, readings, before, after }: StructureOfSegment,
  { source, fromAt, toAt, chunks, structure, sequences, looked }: Closed,
): LogManifest {
  return {
    format: 1,
    kind: 'log',
    source,
    database,
    from: recorded.from,
    to: recorded.to,
    fromAt,
    toAt,
    era,
    chunks,
    relations: recorded.relations,
    transactions: recorded.transactions,
    heavy: recorded.heavy,
    changes: recorded.changes,
    trace: [...recorded.trace].map(([key, tally]) => {
      const [second, relation] = key.split(' ').map(Number) as [number, number]
      return [second, relation, ...tally]
    }),
    sequences,
    readings,
    structure,
    noticed,
    looked,
    steps,
    followed: after,
    before: structure || steps.length > 0 ? before : null,
  }
}
