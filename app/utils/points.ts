import type { Lifeline } from '~~/server/views'

/** A point as the lifeline and its lists take it. */
export type LifelinePoint = Omit<Lifeline['points'][number], 'at'> & { at: Date }
