import type { DatabaseManifest, FileEntry, Manifest } from '../../core/content/manifest'
import type { Act } from '../../core/quiesce/sequence'
import type { StepValues } from '../../core/quiesce/values'
import type { Rule } from '../../core/selection/rules'
import type { Thing } from '../../core/things/thing'
import type { Sink } from '../store/writer'

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
  server: { version: string; versionNumber: number; systemId: string; zone?: string } | null
  findings: ProbeFinding[]
}

/** Where a source reports what it does: steps, counters, messages. A run is one. */
export interface Progress {
  readonly signal: AbortSignal
  plan(step: { kind: string; member: string; title: string }): Promise<number>
  step<T>(ordinal: number, work: (count: (counter: string, by: number) => void) => Promise<T>): Promise<T>
  say(level: 'info' | 'warning' | 'error', text: string): Promise<void>
  /** That there is so much more of something to come. */
  expect(counter: string, by: number): void
}

/** The moment at which all members of a vessel are captured, and how long what is held has to stay so. */
export interface CaptureMoment {
  /** How many captures wait for it is known from the beginning; it comes when all do and everything is held. */
  reached(): Promise<void>
  /** Says that a member was captured, between two times of this process's clock; its source calls `taken` when none is left. */
  captured(member: string, from: number, to: number): void
  /** What this capture needed the hold for is done. Resolves when everything is released. */
  taken(): Promise<void>
  /** Milliseconds that the hold has left; null when nothing is held. */
  remainingMs(): number | null
}

/** An act, and where exactly it runs or what it found there. */
export interface PlacedAct {
  act: Act
  pods?: { pod: string; container: string }[]
  /** Replicas that a workload had before. */
  before?: number
}

export interface ActJob {
  /** The database or the namespace. */
  place: string
  placed: PlacedAct
  /** Of all steps before, by their names. */
  values: Record<string, StepValues>
  limitMs: number
  /** What is held must be let go by the source itself after so long, where it can. */
  holdMs: number
  /** A name that is this hold's own. */
  mark: string
  signal: AbortSignal
}

export interface ActResult {
  /** The end of what it wrote. */
  output: string
  values: StepValues
  /** Why it did not do what it should, in words; null when it did. */
  failure: string | null
  /** That there is nothing left that could be held. */
  moot?: boolean
  session?: HeldSession
}

/** A session that holds something for as long as it is open. */
export interface HeldSession {
  perform(job: ActJob): Promise<ActResult>
  close(): Promise<void>
  readonly isOpen: boolean
}

/** What a kind of source can do to hold its places still. */
export interface Holder {
  /** Finds out where exactly an act runs, before it does. */
  place(place: string, act: Act, signal: AbortSignal): Promise<PlacedAct>
  perform(job: ActJob): Promise<ActResult>
  /** Ends a session that a worker which is gone may have left open. */
  endSession?(place: string, mark: string): Promise<void>
}

export interface CaptureJob {
  progress: Progress
  moment: CaptureMoment
  /** The run's id, written as a label on everything that the run makes at the source. */
  run: string
  /** Whether a run is known and at work no more, so that what it made at a source for a time is left over. */
  isOver: (run: string) => Promise<boolean>
  rules: Rule[]
  /** How many connections may read at once. */
  readers: number
  writer: Sink
  /** A database in the point before, to store changed content as differences. */
  earlier: (database: string) => Promise<DatabaseManifest | undefined>
  /** The folder of a volume of a cluster that is to be read, once everything is held; empty for all of it. */
  folderToRead: (volume: string) => { folder: string; trouble: string | null }
  /** What a volume of a cluster held in the point before, in the order of the paths, to read only what changed. */
  earlierFiles: (volume: string) => Promise<(() => AsyncIterable<FileEntry>) | undefined>
  /** Called before anything is made at a source for a time; what it gives is told whether nothing of that is left. */
  willLeave: (source: string) => Promise<(nothing: boolean) => Promise<void>>
  /** Told of what stays at the source because it could not be read; null when nothing may stay there. */
  keptAtSource: (() => void) | null
  /** A snapshot that lies exactly on a position of the log, where the log of a database is followed; null for any other. */
  snapshot: (database: string) => Promise<{ snapshot: string; position: string; close(): Promise<void> } | null>
}

/** What every kind of source offers. A new kind of source is an adapter with this interface and nothing else. */
export interface SourceAdapter {
  /** Tests the address, the credentials and each privilege, one by one. Never throws for what it tests. */
  probe(now: Date): Promise<ProbeReport>
  /** All things that the source holds, containers before what lies in them. */
  discover(): AsyncGenerator<Thing>
  /**
   * Tells of changes of what it holds until it is told to stop or the source is lost; not every kind can. Where it only
   * looks, it tells since how many milliseconds they may have been there.
   */
  watch?(changed: (forMs?: number) => void, signal: AbortSignal): Promise<void>
  /** Its own ways to hold something still. */
  readonly holder: Holder
  /** Puts everything that the rules take into the store, as it was at one moment. */
  capture(job: CaptureJob): Promise<Manifest>
}
