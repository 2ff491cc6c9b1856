// What routes answer with, for the interface: types only. Over HTTP every Date is an ISO 8601 text.
import type { StructureLine } from '../core/compare/structure'
import type { VesselDefinition } from '../core/plan/definition'
import type { Pause } from '../core/plan/state'
import type { NamespacePlan } from '../core/cluster/operations'
import type { DatabasePlan } from '../core/restore/plan'
import type { KeptOutOf } from '../core/selection/explain'
import type { SelectionSummary } from '../core/selection/summary'
import type { DefaultPlan } from '../engine/catalog/default-plan'
import type { Claim } from '../engine/catalog/claims'
import type { SourceView as Source, ThingView as Thing } from '../engine/catalog/thing-views'
import type { Found } from '../engine/catalog/find'
import type { HoldLine as LedgerLine, OpenHold as Open, QuiesceView as QuiesceNow } from '../engine/catalog/hold-views'
import type { ComingRun as Coming, NextPlanned, ScheduleState } from '../engine/catalog/schedule-views'
import type { ReceiptLine, RunDetail as Detail, RunRow as Row, RunStep as Step } from '../engine/catalog/run-views'
import type { ChangeTrace, HeavyView } from '../engine/catalog/trace'
import type { VesselStanding } from '../engine/catalog/standing'
import type { StoreView as Store } from '../engine/catalog/store-views'
import type { FileSighting as Sightings, ManifestComparison as Manifests, VolumeComparison as Volumes } from '../engine/compare/cluster'
import type { PointContents, PointThing } from '../engine/compare/contents'
import type { TableComparison } from '../engine/compare/table'
import type { FolderLine as Line } from '../engine/look/cluster'
import type { PointSighting as Sighting, RowHistory as History } from '../engine/look/row-history'
import type { LookedRow, RowPage, WholeRow } from '../engine/look/rows'
import type { SavedRestore as Saved } from '../engine/catalog/saved-restores'
import type { ScratchCopy as Scratch } from '../engine/catalog/scratch-views'
import type { MomentView as AtMoment } from '../engine/log/moment-view'
import type { MemberReadiness } from '../engine/log/readiness'
import type { FoundChange, LogFound } from '../engine/log/search'
import type { UndoPlan as Undo, UndoTable } from '../engine/log/undo'
import type { DeletedPlace } from '../engine/retention/deleted-places'
import type { Deletion } from '../engine/retention/deletion'
import type { LogDeletion } from '../engine/retention/log-deletion'
import type { SourceDeletion } from '../engine/retention/source-deletion'
import type { StoreDeletion } from '../engine/retention/store-deletion'
import type { GoneVessel, VesselDeparture } from '../engine/retention/vessel-deletion'
import type { Notable } from '../engine/retention/notable'
import type { KeptLifeline } from '../engine/retention/views'
import type { changedSinceBackup } from '../engine/points/since'
import type { WayKind, WayOfBackup } from '../engine/runs/ways'
import type { Change } from '../engine/notify'
import type { ProbeFinding, ProbeReport } from '../engine/sources/source'
import type { Loss as LossNow, LossWay as Way } from '../engine/watch/loss'
import type { Returned as ReturnedNow } from '../engine/watch/returns'
import type { Attention as AttentionNow, Unprotected } from '../engine/watch/attention'

/** A value as it arrives by JSON. */
export type Sent<T> = T extends Date ? string : T extends object ? { [K in keyof T]: Sent<T[K]> } : T

export type Standing = Sent<VesselStanding>
export type Loss = Sent<LossNow>
export type LossWay = Sent<Way>
export type Returned = Sent<ReturnedNow>
export type VesselView = Standing & {
  losses: Loss[]
  /** The time zone in which its sources tell times themselves; null where that is not known. */
  zone: string | null
  /** What its plan makes next. */
  planned: Sent<NextPlanned> | null
  definition: VesselDefinition
  /** That it was deleted, and what is left of it; null as long as it is not. */
  gone: GoneVesselView | null
}
export type ScheduleView = Sent<ScheduleState>
export type Attention = Sent<AttentionNow>
export type RunRow = Sent<Row>
export type { RunDay, RunFigures, Phase } from '../engine/catalog/run-days'
export type RunStep = Sent<Step>
export type RunDetail = Sent<Detail>
export type Lifeline = Sent<KeptLifeline>
export type { MeasuredSizes } from '../core/plan/sizes'
export type DeletionView = Sent<Deletion>
export type VesselDepartureView = Sent<VesselDeparture>
export type GoneVesselView = Sent<GoneVessel>
export type StoreDeletionView = Sent<StoreDeletion>
export type SourceDeletionView = Sent<SourceDeletion>
export type LogDeletionView = Sent<Omit<LogDeletion, 'segments'>> & { segments: number; members: string[] }
export type NotableView = Sent<Notable>
/** Both are left out where nobody said with what new vessels begin. */
export type DefaultPlanView = Partial<DefaultPlan>
export type DeletedPlaceView = Sent<DeletedPlace>
export type MomentView = Sent<AtMoment>
export type { WayKind, WayOfBackup }
export type Since = Sent<NonNullable<Awaited<ReturnType<typeof changedSinceBackup>>>>
export type { Missing } from '../core/content/manifest'
export type TraceView = Sent<ChangeTrace & { heavy: HeavyView[] }>
export type Heavy = Sent<HeavyView>
export type UndoPlan = Sent<Undo>
export type ThingView = Sent<Thing>
export type SourceView = Sent<Source>
export type StoreView = Sent<Store>
export type RowHistory = Sent<History>
export type PointSighting = Sent<Sighting>
export interface RestoresView {
  saved: Sent<Saved>[]
  scratch: Sent<Scratch>[]
}
export type OpenHold = Sent<Open>
export type HoldLine = Sent<LedgerLine>
export type QuiesceView = Sent<QuiesceNow>
export type Plan = DatabasePlan & { source: string }
export interface PlanView {
  /** Stands for what this plan does; who starts it says so, and nothing else is done. */
  agreed: string
  databases: Plan[]
  namespaces: NamespacePlan[]
}
export type ManifestComparison = Sent<Manifests>
export type VolumeComparison = Sent<Volumes>
export type FileSighting = Sent<Sightings>
export interface WatchView {
  now: string
  vessels: Standing[]
  losses: Loss[]
  returned: Returned[]
  attention: Attention[]
  unprotected: Unprotected[]
  runs: RunRow[]
  /** What plans make in the next day. */
  coming: ComingRun[]
  /** Why everything is paused; null where it is not. */
  pause: Pause | null
}
export type ComingRun = Sent<Coming>
export type SelectionView = SelectionSummary & {
  troubles: Record<string, string | null>
  shared: { path: string; vessel: string }[]
  sharedCount: number
  /** Those of the members that are namespaces. */
  clusters: string[]
}
export interface PlaceView {
  path: string
  existing: boolean
  free: number
  total: number
}
export type {
  Change,
  Claim,
  Found,
  PointContents,
  PointThing,
  ProbeFinding,
  ProbeReport,
  FoundChange,
  LogFound,
  LookedRow,
  MemberReadiness,
  UndoTable,
  ReceiptLine,
  RowPage,
  WholeRow,
  StructureLine,
  TableComparison,
  Unprotected,
  VesselDefinition,
}
export type FolderLine = Sent<Line>
export type KeptOut = KeptOutOf
