import { sql } from 'kysely'
import { VesselError } from '../../core/errors'
import type { Pause } from '../../core/plan/state'
import type { EngineContext } from '../context'
import { notify } from '../notify'
import { vesselBySlug } from './vessels'

/**
 * Lets nothing be made of a vessel by itself until it is resumed, or until a moment. Its log goes on, and what somebody
 * starts is done.
 */
export async function pauseVessel(
  engine: EngineContext,
  slug: string,
  pause: { reason: string; until: Date | null; by: string },
): Promise<void> {
  const { id, name } = await vesselBySlug(engine, slug)
  const now = engine.clock.now()
  if (pause.until !== null && pause.until <= now)
    throw new VesselError('pause_over', {
      what: `The pause of ${name} would be over already.`,
      touched: 'Nothing was changed.',
      next: 'Let it end later, or only when somebody resumes it.',
    })
  const written: Pause = { since: now.toISOString(), until: pause.until?.toISOString() ?? null, reason: pause.reason.trim(), by: pause.by }
  await engine.db
    .updateTable('vessel')
    .set({ pause: JSON.stringify(written) })
    .where('id', '=', id)
    .execute()
  await notify(engine.db, { about: 'vessel', id })
}

export async function resumeVessel(engine: EngineContext, slug: string): Promise<void> {
  const { id } = await vesselBySlug(engine, slug)
  await engine.db.updateTable('vessel').set({ pause: null }).where('id', '=', id).execute()
  await notify(engine.db, { about: 'vessel', id })
}

/** Ends pauses whose time has come. @param now by the catalog's clock */
export async function endPauses(engine: EngineContext, now: Date): Promise<void> {
  const ended = await engine.db
    .updateTable('vessel')
    .set({ pause: null })
    .where(sql<boolean>`(pause->>'until')::timestamptz <= ${now}`)
    .returning('id')
    .execute()
  for (const { id } of ended) await notify(engine.db, { about: 'vessel', id })
}
