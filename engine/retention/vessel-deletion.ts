import { sql } from 'kysely'
import { requireThere, everyVessel, vesselBySlug, type Vessel } from '../catalog/vessels'
import type { Departed } from '../catalog/retention-types'
import type { EngineContext } from '../context'
import { notify } from '../notify'
import { keptOf } from './keeping'
import { inUse } from './lapse'
import { vesselInUse } from './refused'

/** What becomes of the points of a vessel when it is deleted. */
export interface VesselDeparture {
  points: number
  /** Bytes that its points added to their stores when they were made. */
  stored: number
  /** When the first and the last of them go; null where the last is pinned without an end, or there is none. */
  firstGoes: Date | null
  lastGoes: Date | null
  pinned: number
  /** The newest of them; null where there is none. */
  newest: Date | null
  /** Databases of which the log is followed; what is kept for us at their source is let go. */
  logs: string[]
  lines: number
}

export async function vesselDeparture(engine: EngineContext, slug: string): Promise<VesselDeparture> {
  const vessel = requireThere(await vesselBySlug(engine, slug))
  const gone: Departed = { at: engine.clock.now().toISOString(), by: '', reason: '' }
  const rows = await engine.db.selectFrom('follower').select('member').where('vessel_id', '=', vessel.id).orderBy('member').execute()
  return {
    ...(await leftOf(engine, { ...vessel, gone })),
    logs: rows.map(({ member }) => member),
    lines: vessel.definition.schedule?.lines.length ?? 0,
  }
}

async function leftOf(engine: EngineContext, vessel: Vessel): Promise<Omit<VesselDeparture, 'logs' | 'lines'>> {
  const { keeping, lanes } = await keptOf(engine, vessel)
  const untils = [...keeping.values()].map(({ until }) => until)
  const dated = untils.filter((until) => typeof until === 'number')
  const isDated = dated.length === untils.length && dated.length > 0
  return {
    points: keeping.size,
    stored: lanes.artifacts.reduce((sum, { stored }) => sum + stored, 0),
    firstGoes: dated.length > 0 ? new Date(Math.min(...dated)) : null,
    lastGoes: isDated ? new Date(Math.max(...dated)) : null,
    pinned: lanes.points.filter(({ pin }) => pin !== null).length,
    newest: lanes.points.at(-1)?.at ?? null,
  }
}

/**
 * Deletes a vessel: nothing is made of it any more, its log is not followed, and its points stay for the terms that its
 * definition has for that. It can't be brought back.
 *
 * @throws VesselError `vessel_gone`, `vessel_in_use`
 */
export async function deleteVessel(engine: EngineContext, slug: string, { reason, by }: { reason: string; by: string }): Promise<void> {
  const { id, name } = await vesselBySlug(engine, slug)
  await engine.db.transaction().execute(async (tx) => {
    // Nothing of it begins in between: a run that is written down waits for this.
    const row = await tx.selectFrom('vessel').select('gone').where('id', '=', id).forUpdate().executeTakeFirstOrThrow()
    requireThere({ name, gone: row.gone })
    const running = await inUse(tx, id)
    if (running) throw vesselInUse(running, name)
    const gone: Departed = { at: engine.clock.now().toISOString(), by, reason: reason.trim() }
    await tx
      .updateTable('vessel')
      .set({ gone: JSON.stringify(gone), pause: null })
      .where('id', '=', id)
      .execute()
    await sql`update due set settled = true where vessel_id = ${id} and not settled`.execute(tx)
    await tx.deleteFrom('plan_line').where('vessel_id', '=', id).execute()
  })
  await notify(engine.db, { about: 'vessel', id })
}

/** A vessel that was deleted, and what is left of it. */
export interface GoneVessel extends Omit<VesselDeparture, 'logs' | 'lines'> {
  slug: string
  name: string
  gone: { at: Date; by: string; reason: string }
}

/** What is left of a vessel that was deleted; null of one that was not. */
export async function goneView(engine: EngineContext, vessel: Vessel): Promise<GoneVessel | null> {
  if (!vessel.gone) return null
  const gone = { ...vessel.gone, at: new Date(vessel.gone.at) }
  return { slug: vessel.slug, name: vessel.name, gone, ...(await leftOf(engine, vessel)) }
}

/** Those of which points are left, the newest first. */
export async function goneVessels(engine: EngineContext): Promise<GoneVessel[]> {
  const found: GoneVessel[] = []
  for (const vessel of await everyVessel(engine)) {
    const gone = await goneView(engine, vessel)
    if (gone && gone.points > 0) found.push(gone)
  }
  return found.sort((a, b) => b.gone.at.getTime() - a.gone.at.getTime())
}
