import { lastName } from '../../core/things/thing'
import { durationInWords } from '../../core/time/words'
import { allVessels } from '../catalog/vessels'
import type { EngineContext } from '../context'
import { keptOf } from './keeping'
import { goneVessels } from './vessel-deletion'

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
  return (await goneVessels(engine)).flatMap(({ slug, name, lastGoes, newest }) => {
    const leftMs = lastGoes ? lastGoes.getTime() - now : Infinity
    if (leftMs >= SOON_MS) return []
    const what = `${name} was deleted, and its last point goes in ${durationInWords(leftMs)}.`
    return [{ slug, what, since: new Date(lastGoes!.getTime() - SOON_MS), at: newest! }]
  })
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
