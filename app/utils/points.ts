import type { Lifeline } from '~~/server/views'

/** A point as the lifeline and its lists take it. */
export type LifelinePoint = Omit<Lifeline['points'][number], 'at'> & {
  at: Date
  /** How long it stays, and why; null where nothing keeps it any more. */
  keeping: Lifeline['keeping'][string] | null
}
