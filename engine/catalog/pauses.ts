import { sql } from 'kysely'
import { VesselError } from '../../core/errors'
import type { VesselDefinition } from '../../core/plan/definition'
import { takesFromSource } from '../../core/plan/paused'
import { quietTroubles, quietUntil, type QuietTime } from '../../core/plan/quiet'
import type { Pause } from '../../core/plan/state'
import type { EngineContext } from '../context'
import { notify } from '../notify'
import type { CatalogDb } from './connect'
import { rowById } from './sources'
import { requireThere, vesselBySlug } from './vessels'

/** Why something is paused, and until when; null until somebody resumes it. */
export interface AskedPause {
  reason: string
  until: Date | null
  by: string
}

/** @throws VesselError `pause_over` */
function written({ clock }: EngineContext, { reason, until, by }: AskedPause): string {
  const now = clock.now()
  if (until !== null && until <= now)
    throw new VesselError('pause_over', {
      what: 'The pause would be over already.',
      touched: 'Nothing was changed.',
      next: 'Let it end later, or only when somebody resumes it.',
    })
  return JSON.stringify({ since: now.toISOString(), until: until?.toISOString() ?? null, reason: reason.trim(), by } satisfies Pause)
}

/**
 * Lets nothing be made of a vessel by itself until it is resumed, or until a moment. Its log goes on, and what somebody
 * starts is done.
 */
export async function pauseVessel(engine: EngineContext, slug: string, pause: AskedPause): Promise<void> {
  const { id } = requireThere(await vesselBySlug(engine, slug))
  await engine.db
    .updateTable('vessel')
    .set({ pause: written(engine, pause) })
    .where('id', '=', id)
    .execute()
  await notify(engine.db, { about: 'vessel', id })
}

/** The same of all vessels that take something from a source, or of all there are where none is named. */
export async function pauseWider(engine: EngineContext, sourceId: string | null, pause: AskedPause): Promise<void> {
  if (sourceId !== null) await rowById(engine, sourceId)
  await sql`insert into wider_pause (source_id, pause) values (${sourceId}::uuid, ${written(engine, pause)}::jsonb)
    on conflict (source_id) do update set pause = excluded.pause`.execute(engine.db)
  await notify(engine.db, { about: 'things' })
}

export async function resumeWider(engine: EngineContext, sourceId: string | null): Promise<void> {
  await sql`delete from wider_pause where source_id is not distinct from ${sourceId}::uuid`.execute(engine.db)
  await notify(engine.db, { about: 'things' })
}

/** Why everything is paused; null where it is not. */
export async function pauseOfEverything(engine: EngineContext): Promise<Pause | null> {
  const row = await engine.db.selectFrom('wider_pause').select('pause').where('source_id', 'is', null).executeTakeFirst()
  return row?.pause ?? null
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
  const { numAffectedRows } = await sql`delete from wider_pause where (pause->>'until')::timestamptz <= ${now}`.execute(engine.db)
  if (numAffectedRows) await notify(engine.db, { about: 'things' })
}

/** Sets when no plan begins anything at a source. @throws VesselError `quiet_times` */
export async function setQuiet(engine: EngineContext, sourceId: string, times: QuietTime[]): Promise<void> {
  const troubles = quietTroubles(times)
  if (troubles.length > 0)
    throw new VesselError('quiet_times', { what: troubles.join(' '), touched: 'Nothing was saved.', next: 'Mend this, then save again.' })
  await rowById(engine, sourceId)
  await engine.db
    .updateTable('source')
    .set({ quiet: JSON.stringify(times) })
    .where('id', '=', sourceId)
    .execute()
  await notify(engine.db, { about: 'things' })
}

/** When no plan begins anything of a vessel: by the source that it takes something from, and until when. */
export async function quietOf(
  db: CatalogDb,
  definition: VesselDefinition,
): Promise<(at: number) => { source: string; until: number } | null> {
  const rows = await db
    .selectFrom('source')
    .select(['name', 'quiet'])
    .where(sql<boolean>`quiet <> '[]'`)
    .execute()
  const takes = takesFromSource(definition)
  const sources = rows.filter(({ name }) => takes(name))
  return (at) => {
    const found = sources.flatMap(({ name, quiet }) => {
      const until = quietUntil(quiet, at)
      return until === null ? [] : [{ source: name, until }]
    })
    return found.reduce<{ source: string; until: number } | null>((a, b) => (a && a.until >= b.until ? a : b), null)
  }
}
