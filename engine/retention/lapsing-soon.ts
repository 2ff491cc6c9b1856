import { lastName } from '../../core/things/thing'
import { durationInWords } from '../../core/time/words'
import { allVessels, everyVessel } from '../catalog/vessels'
import type { EngineContext } from '../context'
import { keptOf } from './keeping'

const DAY_MS = 86_400_000
const SOON_MS = 7 * DAY_MS

/** A point that goes soon, and that is the last that holds something. */
export interface LastLapsing {
  slug: string
  what: string
  since: Date
  at: Date
}

/** The last points of things and vessels that are gone, whose term is over within a week. */
export async function lastLapsing(engine: EngineContext): Promise<LastLapsing[]> {
  return [...(await ofVessels(engine)), ...(await ofThings(engine))]
}

async function ofVessels(engine: EngineContext): Promise<LastLapsing[]> {
  const now = engine.clock.now().getTime()
  const found: LastLapsing[] = []
  for (const vessel of await everyVessel(engine)) {
    if (!vessel.gone) continue
    const { keeping, lanes } = await keptOf(engine, vessel)
    const untils = [...keeping.values()].map(({ until }) => (typeof until === 'number' ? until : Infinity))
    const last = Math.max(...untils)
    if (untils.length === 0 || last - now >= SOON_MS) continue
    const what = `${vessel.name} was deleted, and its last point goes in ${durationInWords(last - now)}.`
    found.push({ slug: vessel.slug, what, since: new Date(last - SOON_MS), at: lanes.points.at(-1)!.at })
  }
  return found
}

async function ofThings(engine: EngineContext): Promise<LastLapsing[]> {
  const now = engine.clock.now().getTime()
  const gone = await engine.db
    .selectFrom('thing')
    .select('gone_at')
    .distinct()
    .where('gone_at', 'is not', null)
    .where('gone_meant_at', 'is', null)
    .where('back_at', 'is', null)
    .execute()
  const found: LastLapsing[] = []
  for (const vessel of await allVessels(engine)) {
    const termMs = (vessel.definition.retention?.gone.automaticDays ?? Infinity) * DAY_MS
    const leftOf = (at: Date) => at.getTime() + termMs - now
    if (!gone.some(({ gone_at: at }) => leftOf(at!) > 0 && leftOf(at!) < SOON_MS)) continue
    const { keeping, lanes } = await keptOf(engine, vessel)
    for (const { id, at } of lanes.points) {
      const kept = keeping.get(id)
      if (kept?.by.kind !== 'gone' || typeof kept.until !== 'number' || kept.until - now >= SOON_MS) continue
      const what = `${vessel.name}: the last point that holds ${lastName(kept.by.path)}, which is gone, goes in ${durationInWords(kept.until - now)}.`
      found.push({ slug: vessel.slug, what, since: new Date(kept.until - termMs), at })
    }
  }
  return found
}
