import { errorRecord } from '../../core/errors'
import type { Operation } from '../../core/restore/plan'
import { RESTORED } from '../../core/restore/receipt'
import { thingKey } from '../../core/restore/sql'
import type { Catalog } from '../catalog/types'
import type { UnrestoredPart } from '../sources/postgres/refill'
import type { RunContext } from './context'
import type { TableOutcome } from './proof'

export interface RestoreTally {
  made: number
  replaced: number
  renamed: number
  /** Rows were added to what stands. */
  merged: number
  /** Made by a restore that was taken back. */
  dropped: number
  /** Asked for, and not restored. */
  left: number
  /** There already, and the same as then. */
  same: number
  failed: number
  /** Parts of things that are back (a comment, a grant, a foreign key) which could not be put in place. */
  leftParts: number
  /** Restored, and not as it was in everything. */
  unequal: number
}

type Row = Omit<Catalog['receipt'], 'run_id' | 'ordinal' | 'left_parts'> & { left_parts: UnrestoredPart[] }

const NOTHING = {
  reason: null,
  rows: null,
  fingerprint_then: null,
  fingerprint_now: null,
  structure_then: null,
  structure_now: null,
  equal: null,
  left_parts: [],
}

/** Why a table is not as it was, though its rows are. */
function unequalWords({ operation, differences }: TableOutcome): string {
  const what =
    differences.length === 0 ? 'Its structure is not as it was then.' : `Its structure is not as it was then: ${differences.join(', ')}.`
  return operation.asOf === null ? what : `${operation.asOf} ${what}`
}

/** What became of a thing that was restored as the plan says. */
export function outcomeOf({ verb, renamed }: { verb: string; renamed: boolean }): 'made' | 'replaced' | 'renamed' | 'merged' {
  return verb === 'merge' ? 'merged' : renamed ? 'renamed' : verb === 'replace' ? 'replaced' : 'made'
}

/** The receipt of a restore: what became of each thing, with the proof. */
export class Receipts {
  private readonly rows: Row[] = []
  private saved = 0
  readonly tally: RestoreTally = {
    made: 0,
    replaced: 0,
    renamed: 0,
    merged: 0,
    dropped: 0,
    left: 0,
    same: 0,
    failed: 0,
    leftParts: 0,
    unequal: 0,
  }
  firstFailure: unknown

  constructor(private readonly run: RunContext) {}

  private add(operation: Operation, outcome: Row['outcome'], more: Partial<Row> = {}): void {
    const reason = outcome === 'left' ? null : operation.asOf
    this.line(operation.path, thingKey(operation.target.schema, operation.target.name), operation.verb, outcome, { reason, ...more })
  }

  made(operation: Operation, unrestored: UnrestoredPart[], more: Partial<Row> = {}): void {
    this.add(operation, outcomeOf(operation), { left_parts: unrestored, ...more })
  }

  table(outcome: TableOutcome): void {
    this.add(outcome.operation, outcomeOf(outcome.operation), {
      rows: outcome.rows,
      fingerprint_then: outcome.fingerprintThen,
      fingerprint_now: outcome.fingerprintNow,
      structure_then: outcome.structureThen,
      structure_now: outcome.structureNow,
      equal: outcome.equal,
      ...(outcome.equal ? {} : { reason: unequalWords(outcome) }),
      left_parts: outcome.unrestored,
    })
  }

  rehearsed(operation: Operation, fingerprint: string | null): void {
    this.add(operation, outcomeOf(operation), { rows: operation.rows, fingerprint_then: fingerprint })
  }

  left(operation: Operation, reason: string): void {
    this.add(operation, 'left', { reason, equal: operation.same ? true : null })
  }

  failed(operation: Operation, error: unknown): void {
    this.broken(operation.path, thingKey(operation.target.schema, operation.target.name), operation.verb, error)
  }

  /** A line of what is not in a database: an object, a volume, a check. */
  line(path: string, target: string, verb: string, outcome: Row['outcome'], more: Partial<Row>): void {
    this.rows.push({ ...NOTHING, path, target, verb, outcome, ...more })
  }

  /** Things without rows whose definitions were found as they were then. */
  proven(paths: Set<string>): void {
    for (const row of this.rows)
      if (paths.has(row.path) && row.equal === null && RESTORED.includes(row.outcome) && row.left_parts.length === 0) row.equal = true
  }

  /** What was looked at once all was there, of a thing that has a line of its own or of the whole. */
  compared(path: string, target: string, equal: boolean, reason: string, different: UnrestoredPart[] = []): void {
    this.line(path, target, 'compare', 'compared', { reason, equal, left_parts: different })
  }

  /** What is to be known of the state that was restored; nothing was compared for it. */
  noted(path: string, target: string, reason: string): void {
    this.line(path, target, 'compare', 'noted', { reason })
  }

  /** What a plan for a namespace leaves, and why. */
  leave({ path, target, verb, notes, same }: { path: string; target: string; verb: string; notes: string[]; same?: boolean }): void {
    this.line(path, target, verb, 'left', { reason: notes[0] ?? '', equal: same ? true : null })
  }

  broken(path: string, target: string, verb: string, error: unknown): void {
    this.firstFailure ??= error
    const { what, touched } = errorRecord(error)
    this.line(path, target, verb, 'failed', { reason: `${what} ${touched}` })
  }

  /** Paths of what could not be restored. */
  undone(): Set<string> {
    return new Set(this.rows.filter(({ outcome }) => outcome === 'failed').map(({ path }) => path))
  }

  /** Parts that could not be put in place, in the words that tell of them. */
  leftWords(): string[] {
    return this.rows.flatMap(({ left_parts: unrestored }) => unrestored.map(({ what }) => what))
  }

  /** Writes what has become known since the last time. */
  async save(): Promise<void> {
    const fresh = this.rows.slice(this.saved)
    for (const row of fresh) {
      if (row.outcome !== 'compared' && row.outcome !== 'noted') this.tally[row.outcome === 'left' && row.equal ? 'same' : row.outcome]++
      this.tally.leftParts += row.left_parts.length
      if (row.equal === false) this.tally.unequal++
    }
    for (let from = 0; from < fresh.length; from += 500) {
      const part = fresh.slice(from, from + 500)
      const values = part.map((row, i) => ({
        ...row,
        run_id: this.run.id,
        ordinal: this.saved + from + i,
        left_parts: JSON.stringify(row.left_parts),
      }))
      await this.run.engine.db.insertInto('receipt').values(values).execute()
    }
    this.saved = this.rows.length
  }
}
