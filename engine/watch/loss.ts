import { refAtPosition } from '../../core/chain/moment-ref'
import type { ThingKind } from '../../core/things/thing'
import type { Went } from '../catalog/log-types'
import type { Vessel } from '../catalog/vessels'
import type { NewLoss } from '../log/losses'

/** A way back from a loss, and what it would not bring. */
export interface LossWay {
  /** Just before it, by a log; from a point; or the rows of the transaction alone, put back where they are missing. */
  kind: 'moment' | 'point' | 'undo'
  vessel: { slug: string; name: string }
  /** The moment or the point, as it stands in an address. */
  ref: string
  at: Date
  /** What would be lost all the same, in words; null where nothing would. */
  without: string | null
  to: string
}

/** Something that was lost, told once, with the ways back. */
export interface Loss {
  /** What it is known by when somebody says that it was meant. */
  key: string
  kind: 'dropped' | 'columns' | 'removed' | 'gone'
  level: 'error' | 'warning'
  /** What happened, in a sentence. */
  what: string
  /** When it was; where only looking told of it, it was there still at `after`. */
  at: Date
  after: Date | null
  /** How often the like of it happened lately; what is told is the newest. */
  times: number
  by: { user: string; application: string } | null
  statement: string | null
  /** What went with it, beside tables. */
  went: Went[]
  paths: string[]
  /** The best first. */
  ways: LossWay[]
}

/** A loss as one log told it; several logs may tell of the same. */
export interface ToldLoss extends NewLoss {
  id: string
  vessel: Vessel
  source: string
  member: string
  /** When it was written down, by the engine's own clock, as it is told when a source was looked at. */
  foundAt: Date
}

/** What went from one place without a log that told of it; the place itself, where it went with all that was in it. */
export interface GoneFrom {
  place: string
  whole: ThingKind | null
  paths: string[]
  kinds: Set<ThingKind>
  at: Date
  after: Date | null
  /** The newest point of each vessel that holds it. */
  points: { vessel: Vessel; point: string; at: Date }[]
}

/** Just before a loss, as a reference. */
export const refBefore = ({ vessel, source, before, at }: Pick<ToldLoss, 'vessel' | 'source' | 'before' | 'at'>) =>
  refAtPosition(vessel.slug, source, before, at.getTime() * 1000)

/** The page on which something comes back: one thing, or all that is gone from a place. */
export const restoreFrom = (vessel: { slug: string }, ref: string, what: { pick: string } | { gone: string }) =>
  `/vessels/${vessel.slug}/restore?point=${encodeURIComponent(ref)}&${
    'pick' in what ? `pick=${encodeURIComponent(what.pick)}` : `gone=${encodeURIComponent(what.gone)}`
  }`
