import type { ReceiptOutcome } from '../../core/restore/receipt'
import type { ColumnType, Generated, JSONColumnType } from 'kysely'
import type { ArtifactKind } from '../../core/chain/chain'
import type { Damage, Missing } from '../../core/content/manifest'
import type { ErrorRecord } from '../../core/errors'
import type { VesselDefinition } from '../../core/plan/definition'
import type { QuietTime } from '../../core/plan/quiet'
import type { Price } from '../../core/plan/simulate'
import type { Pause } from '../../core/plan/state'
import type { Consistency, Reached } from '../../core/quiesce/consistency'
import type { StepValues } from '../../core/quiesce/values'
import type { Begins, Choice } from '../../core/restore/choice'
import type { Wish } from '../../core/restore/wish'
import type { Sample } from '../../core/time/pace'
import type { ThingFacts, ThingKind } from '../../core/things/thing'
import type { SourceKind } from '../sources/adapter'
import type { PlacedAct, ProbeReport } from '../sources/source'
import type { Json, Time } from './columns'
import type { LogCatalog } from './log-types'
import type { PlanCatalog, PlannedAs } from './plan-types'
import type { Departed, PinRecord, PruneTimes, RetentionCatalog } from './retention-types'

/** Tables of the catalog, as the migrations make them. */
export interface Catalog extends LogCatalog, PlanCatalog, RetentionCatalog {
  hold: {
    id: string
    run_id: string
    vessel_id: string
    ordinal: number
    turn: number
    name: string
    member: string
    act: Json<PlacedAct>
    release: Json<PlacedAct> | null
    limit_ms: number
    budget_ms: number
    known: JSONColumnType<Record<string, StepValues>>
    state: HoldState
    begun_at: Time
    held_at: Time | null
    released_at: Time | null
    overdue_at: Time
    attempts: Generated<number>
    next_try_at: Time | null
    claimed_until: Time | null
    output: Generated<string>
    failure: string | null
    release_output: Generated<string>
    trouble: string | null
    released_by: ReleasedBy | null
    let_go_at: Time | null
    let_go_by: ReleasedBy | null
  }
  /** What one worker of all does, and until when. */
  duty: { what: string; holder: string; until: Time }
  /** Files of stores that are about to be written, or to go. */
  announced_file: { store_id: string; path: string; run_id: string; at: Generated<Date> }
  /** What only one run may have at a time. */
  lease: { what: string; run_id: string; taken_at: Generated<Date> }
  /** One line: something that is sealed with the master key, by which another key is noticed. */
  master_key: { one: Generated<boolean>; sealed_check: Buffer }
  store: {
    id: string
    name: string
    kind: 'folder'
    settings: Json<{ path: string }>
    sealed_key: Buffer
    /** How many runs may work with it at once; null: as many as there are. */
    at_once: number | null
    created_at: Time
    verified_at: Time | null
    trouble: Json<ErrorRecord> | null
    pruned_at: Generated<Date | null>
    prune: ColumnType<PruneTimes | null, string | undefined, string | null>
    price: ColumnType<Price | null, string | undefined, string | null>
  }
  pack: {
    id: string
    store_id: string
    run_id: string
    bytes: string | number
    entries: number
    committed: boolean
    created_at: Time
    /** The prune by which it is to go: nothing new may rest upon it. */
    condemned_by: string | null
    condemned_at: Time | null
  }
  /** Who may be about to refer to content of a store; of a run, or of a segment of log. */
  content_writer: { id: string; store_id: string; owner: string; heard_at: Generated<Date> }
  /** Names of chunks that a prune found something to rest upon. */
  live_chunk: { run_id: string; name: Buffer }
  chunk: {
    store_id: string
    name: Buffer
    pack_id: string
    position: string | number
    length: number
    plain_length: number
    base: Buffer | null
    /** It could not be read when it was looked at last. */
    damaged: Generated<boolean>
  }
  source: {
    id: string
    name: string
    kind: SourceKind
    settings: Json<Record<string, unknown>>
    sealed_secret: Buffer | null
    probe: Json<ProbeReport> | null
    discovered_at: Time | null
    trouble: Json<ErrorRecord> | null
    at_once: number | null
    /** When no plan begins anything there. */
    quiet: ColumnType<QuietTime[], string | undefined, string>
    created_at: Time
  }
  thing: {
    source_id: string
    path: string
    kind: ThingKind
    labels: Json<Record<string, string>>
    facts: Json<ThingFacts>
    first_seen: Time
    gone_at: Time | null
    /** Where it is gone: it was there still then; and whether somebody said that it was meant. */
    gone_after: Time | null
    gone_meant_at: Time | null
    /** When it came back after that, and by which run. */
    back_at: Time | null
    back_run: string | null
  }
  vessel: {
    id: string
    slug: string
    name: string
    pause: Json<Pause> | null
    /** When it was deleted, by whom and why; null as long as it is not. */
    gone: Json<Departed> | null
    version: number
    created_at: Time
  }
  vessel_version: {
    vessel_id: string
    version: number
    definition: Json<VesselDefinition>
    created_at: Time
  }
  run: {
    id: string
    kind: RunKind
    vessel_id: string
    vessel_version: number
    state: RunState
    name: string | null
    comment: string | null
    started_by: string
    params: Json<Record<string, unknown>>
    at: Time
    created_at: Time
    started_at: Time | null
    finished_at: Time | null
    heartbeat_at: Time | null
    /** Token of the worker that has it. */
    claim: string | null
    cancel_requested_at: Time | null
    waits_for: string | null
    /** Names of the sources at which it works. */
    sources: Generated<string[]>
    counters: Json<Record<string, number>>
    pace: ColumnType<Sample[], string | undefined, string>
    outcome: Json<Record<string, unknown>> | null
    error: Json<ErrorRecord> | null
  }
  run_undo: {
    run_id: string
    ordinal: number
    kind: 'database' | 'rest' | 'cluster'
    what: Json<Record<string, unknown>>
  }
  run_step: {
    run_id: string
    ordinal: number
    member: string
    kind: string
    title: string
    state: StepState
    started_at: Time | null
    finished_at: Time | null
    counters: Json<Record<string, number>>
    message: string | null
  }
  run_message: {
    id: Generated<string>
    run_id: string
    at: Time
    level: 'info' | 'warning' | 'error'
    text: string
  }
  artifact: {
    id: string
    run_id: string
    vessel_id: string
    /** Null where the source was forgotten. */
    source_id: string | null
    member: string
    kind: ArtifactKind
    parent: string | null
    from_position: string
    from_at: Time
    at: Time
    position: string
    era: Generated<string>
    store_id: string | null
    damaged: Generated<boolean>
    rows: string | number
    bytes: string | number
    stored: string | number
    manifest: JSONColumnType<string[]>
  }
  point: {
    id: string
    vessel_id: string
    vessel_version: number
    run_id: string
    store_id: string
    at: Time
    name: string | null
    comment: string | null
    /** Why it is kept whatever retention says, and until when; null where it is not. */
    pin: Json<PinRecord> | null
    /** Its place in the plan that made it; null where a person did. */
    plan: Json<PlannedAs> | null
    complete: boolean
    kept_for: string | null
    /** When a point may go that no plan made; null: when somebody deletes it. */
    expires_at: Time | null
    consistency: Consistency
    /** Which consistency each member reached, and why; null for points from before it was said. */
    reached: Json<Reached> | null
    missing: Json<Missing[]>
    verified_at: Time | null
    created_at: Time
    /** What of it can't be read any more. */
    damage: Json<Damage[]> | null
  }
  scratch: {
    id: string
    run_id: string
    vessel_id: string
    source_id: string
    database: string
    /** The role that may use it, and its password; null where the connecting role may make none. */
    role: string | null
    sealed_password: Buffer | null
    state: 'making' | 'ready' | 'gone'
    created_at: Time
    expires_at: Time
    trouble: Json<ErrorRecord> | null
  }
  saved_restore: {
    id: string
    vessel_id: string
    name: string
    wish: Json<Partial<Wish>>
    reason: string | null
    created_at: Time
    last_run_id: string | null
    begins: Json<Begins>
  }
  kept_choice: { id: string; choice: Json<Choice>; used_at: Time }
  point_artifact: { point_id: string; artifact_id: string }
  receipt: {
    run_id: string
    ordinal: number
    path: string
    target: string
    verb: string
    outcome: ReceiptOutcome
    reason: string | null
    rows: string | number | null
    fingerprint_then: string | null
    fingerprint_now: string | null
    structure_then: string | null
    structure_now: string | null
    equal: boolean | null
    left_parts: Json<{ what: string; why: string }[]>
  }
}

export type HoldState = 'beginning' | 'held' | 'releasing' | 'stuck' | 'released'
/** Who released: the run itself, a watchdog, or a person, who may also say that it is done. */
export type ReleasedBy = 'run' | 'watchdog' | 'person' | 'said'

/** A `hold` holds and releases, and does nothing else. */
export const RUN_KINDS = ['backup', 'restore', 'rehearsal', 'verify', 'undo', 'hold', 'fetch', 'audit', 'reindex', 'prune'] as const
export type RunKind = (typeof RUN_KINDS)[number]
export type RunState = 'waiting' | 'running' | 'done' | 'warned' | 'failed' | 'cancelled'
export type StepState = RunState | 'skipped'
