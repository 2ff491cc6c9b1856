import type pg from 'pg'
import type { CatalogDb } from './catalog/connect'
import type { ContentPool } from './pool/pool'
import type { Secrets } from './secrets/seal'

/** Tells the time; the demo's scenario runs on a faster one. */
export interface Clock {
  now(): Date
}

export const systemClock: Clock = { now: () => new Date() }

/** What every part of the engine works with. */
export interface EngineContext {
  db: CatalogDb
  pool: pg.Pool
  secrets: Secrets
  content: ContentPool
  clock: Clock
}
