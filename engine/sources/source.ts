import type { DatabaseManifest, Manifest } from '../../core/content/manifest'
import type { Rule } from '../../core/selection/rules'
import type { Thing } from '../../core/things/thing'
import type { ContentWriter } from '../store/writer'

/** One line of a probe: what was tested, how it went, and what mends it. */
export interface ProbeFinding {
  id: string
  title: string
  /** `missing` stands in the way of backups; `advice` of something less. */
  outcome: 'ok' | 'advice' | 'missing'
  detail: string
  /** The statement or step that mends it. */
  mend: string | null
}

export interface ProbeReport {
  at: string
  usable: boolean
  server: { version: string; versionNumber: number; systemId: string } | null
  findings: ProbeFinding[]
}

/** Where a source reports what it does: steps, counters, messages. A run is one. */
export interface Progress {
  readonly signal: AbortSignal
  plan(step: { kind: string; member: string; title: string }): Promise<number>
  step<T>(ordinal: number, work: (count: (counter: string, by: number) => void) => Promise<T>): Promise<T>
  say(level: 'info' | 'warning' | 'error', text: string): Promise<void>
  set(counter: string, value: number): void
  get(counter: string): number
}

export interface CaptureJob {
  progress: Progress
  /** The run's id, which what is made at a source for its sake bears. */
  run: string
  /** Whether a run is still at work, so that what it made at a source is its own. */
  isAtWork: (run: string) => Promise<boolean>
  rules: Rule[]
  /** How many connections may read at once. */
  readers: number
  writer: ContentWriter
  /** A database in the point before, to store changed content as differences. */
  earlier: (database: string) => Promise<DatabaseManifest | undefined>
  /** A snapshot that lies exactly on a position of the log, where the log of a database is followed; null for any other. */
  snapshot: (database: string) => Promise<{ snapshot: string; position: string; close(): Promise<void> } | null>
}

/** What every kind of source offers. A new kind of source is an adapter with this interface and nothing else. */
export interface SourceAdapter {
  /** Tests the address, the credentials and each privilege, one by one. Never throws for what it tests. */
  probe(now: Date): Promise<ProbeReport>
  /** All things that the source holds, containers before what lies in them. */
  discover(): AsyncGenerator<Thing>
  /** Tells of changes of what it holds until it is told to stop or the source is lost; not every kind can. */
  watch?(changed: () => void, signal: AbortSignal): Promise<void>
  /** Puts everything that the rules take into the store, as it was at one moment. */
  capture(job: CaptureJob): Promise<Manifest>
}
