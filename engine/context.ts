import type pg from 'pg'
import type { CatalogDb } from './catalog/connect'
import type { Allowed } from './holds/outside'
import type { ContentPool } from './pool/pool'
import type { Secrets } from './secrets/seal'

/** Tells the time; the demo's scenario runs on a faster one. */
export interface Clock {
  now(): Date
  /** What a source's clock showed, in the time of this one. */
  ofSource(at: Date): Date
}

export const systemClock: Clock = { now: () => new Date(), ofSource: (at) => at }

/** What every part of the engine works with. */
export interface EngineContext {
  db: CatalogDb
  pool: pg.Pool
  secrets: Secrets
  content: ContentPool
  clock: Clock
  /** What steps of a hold may do outside of sources. */
  hooks: Allowed
}
