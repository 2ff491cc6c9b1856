import type { Json, Time } from './columns'
import type { PlannedAs } from './plan-types'

/** Why a point is pinned, by whom and since when; times as ISO 8601, `until` null until somebody takes it back. */
export interface PinRecord {
  reason: string
  until: string | null
  by: string
  at: string
}

/** When a store is pruned by itself. */
export interface PruneTimes {
  zone: string
  /** `HH:MM` of that zone, every day. */
  at: string
}

/** Tables of the catalog that tell of what is gone. */
export interface RetentionCatalog {
  /** Sources and stores that were deleted. */
  deleted_place: { id: string; kind: 'source' | 'store'; name: string; at: Time; by: string; why: string }
  /** A point that went: what it was, and why it did. */
  gone_point: {
    id: string
    vessel_id: string
    at: Time
    name: string | null
    plan: Json<PlannedAs> | null
    gone_at: Time
    run_id: string | null
    why: string
    by: string
  }
}

/** That a vessel was deleted; its points stay for a while. */
export interface Departed {
  at: string
  by: string
  reason: string
}
