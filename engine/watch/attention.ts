import { grouped } from '../../core/grouped'
import { sortMissing } from '../../core/content/missing'
import { CLUSTER_WIDE, lastName, namesOf, pathOf, placeOf, type Thing } from '../../core/things/thing'
import { logOf } from '../../core/plan/definition'
import { logFullAt } from '../../core/plan/fill'
import { bytesInWords, durationInWords, plural } from '../../core/time/words'
import type { EngineContext } from '../context'
import { claimed } from '../catalog/claims'
import { sourceViews } from '../catalog/thing-views'
import { allVessels } from '../catalog/vessels'
import type { VesselStanding } from '../catalog/standing'
import { lastLapsing } from '../retention/lapsing-soon'

/** Something that a person has to see to, with the way to do it. */
export interface Attention {
  level: 'error' | 'warning'
  what: string
  since: Date | null
  action: string
  to: string
}

/** What signs in is not accepted any more. */
const REFUSED = new Set(['token_refused', 'password_refused'])

export interface Unprotected {
  path: string
  name: string
  tables: number
  bytes: number
  /** When the newest of it appeared. */
  since: Date
}

/** What a person has to see to, what was lost aside (`openLosses`); what is broken first. */
export async function attentionNeeded(engine: EngineContext, vessels: VesselStanding[]): Promise<Attention[]> {
  const attention: Attention[] = []
  for (const source of await sourceViews(engine)) {
    if (source.trouble)
      attention.push({
        level: 'error',
        what: source.trouble.what,
        since: source.discoveredAt,
        ...(REFUSED.has(source.trouble.code)
          ? { action: 'Change how it is reached…', to: `/sources/${source.name}?reach` }
          : { action: 'Look at the source', to: `/sources/${source.name}` }),
      })
  }
  const stores = await engine.db.selectFrom('store').select(['name', 'trouble', 'verified_at']).execute()
  for (const store of stores) {
    if (store.trouble)
      attention.push({ level: 'error', what: store.trouble.what, since: store.verified_at, action: 'Look at the store', to: '/stores' })
  }
  attention.push(...(await damagedPoints(engine, vessels)), ...(await logTroubles(engine, vessels)))
  for (const vessel of vessels) {
    const failed = await lastFailed(engine, vessel)
    if (failed)
      attention.push({
        level: 'error',
        what: `${vessel.name}: ${failed.what}`,
        since: failed.at,
        action: 'What happened',
        to: `/runs/${failed.id}`,
      })
    const { lost, atSource } = sortMissing(vessel.newest?.missing ?? [])
    if (atSource.length > 0)
      attention.push({
        level: 'warning',
        what: `The data of ${plural(atSource.length, 'volume')} of ${vessel.name} is only at its source: ${lastName(atSource[0]!.path)}.`,
        since: vessel.newest!.at,
        action: 'Read it into the store…',
        to: `/vessels/${vessel.slug}?at=${vessel.newest!.at.toISOString()}`,
      })
    if (lost.length > 0) {
      attention.push({
        level: 'warning',
        what: `${plural(lost.length, 'thing')} of ${vessel.name} could not be captured: ${lastName(lost[0]!.path)}. ${lost[0]!.reason}`,
        since: vessel.newest!.at,
        action: 'What happened',
        to: `/runs/${vessel.newest!.run}`,
      })
    }
  }
  for (const { slug, what, since, at } of await lastLapsing(engine))
    attention.push({ level: 'warning', what, since, action: 'Keep it longer…', to: `/vessels/${slug}?at=${at.toISOString()}` })
  // What is broken stands above what is only frail.
  return [...attention.filter(({ level }) => level === 'error'), ...attention.filter(({ level }) => level !== 'error')]
}

/** What grows for a shorter time may be let go with the next checkpoint. */
const CLIMBS_FOR_MS = 15 * 60_000
const FULL_WITHIN_MS = 7 * 24 * 3_600_000

/** Logs that are broken, stalled, or keep too much back at their source. */
async function logTroubles(engine: EngineContext, vessels: VesselStanding[]): Promise<Attention[]> {
  const [rows, definitions] = await Promise.all([engine.db.selectFrom('follower').selectAll().execute(), allVessels(engine)])
  const limits = new Map(definitions.map(({ id, definition }) => [id, logOf(definition).keepAtMost]))
  return rows.flatMap((row): Attention[] => {
    const vessel = vessels.find(({ id }) => id === row.vessel_id)
    if (!vessel) return []
    const to = `/vessels/${vessel.slug}`
    if (row.trouble && row.state !== 'following')
      return [
        {
          level: row.state === 'stalled' ? 'warning' : 'error',
          what: `${vessel.name}: ${row.trouble.what}`,
          since: row.since,
          action: 'Look at the lifeline',
          to,
        },
      ]
    const full = logFullAt(row.measured, row.log_free === null ? null : Number(row.log_free), limits.get(row.vessel_id)!)
    if (full && full.forMs >= CLIMBS_FOR_MS && full.at.getTime() < engine.clock.now().getTime() + FULL_WITHIN_MS)
      return [
        {
          level: full.by === 'disk' ? 'error' : 'warning',
          what: `${row.member} keeps more and more log for ${vessel.name}: at the present rate ${full.by === 'disk' ? 'the disk of its log is full' : 'its limit is reached'} in ${durationInWords(Math.max(0, full.at.getTime() - engine.clock.now().getTime()))}.`,
          since: row.since,
          action: 'See why it is kept',
          to: `${to}/definition#when`,
        },
      ]
    if (row.warned)
      return [
        {
          level: 'warning',
          what: `${row.member} keeps ${bytesInWords(Number(row.retained ?? 0))} of log for ${vessel.name}, which is near its limit.`,
          since: row.since,
          action: 'Look at the limit',
          to: `${to}/definition#when`,
        },
      ]
    return []
  })
}

async function lastFailed(engine: EngineContext, vessel: VesselStanding): Promise<{ id: string; at: Date; what: string } | null> {
  const last = await engine.db
    .selectFrom('run')
    .select(['id', 'at', 'state', 'error'])
    .where('vessel_id', '=', vessel.id)
    .where('state', 'not in', ['waiting', 'running', 'cancelled'])
    .orderBy('at', 'desc')
    .limit(1)
    .executeTakeFirst()
  return last?.state === 'failed' ? { id: last.id, at: last.at, what: last.error?.what ?? 'its last run failed.' } : null
}

/** The schema or the namespace that something would be protected with; null for what is nobody's to protect. */
function unprotectedPlace({ kind, path }: Thing): { path: string; name: string } | null {
  const [source, place, schema] = namesOf(path)
  if (kind === 'table') return { path: pathOf(source!, place!, schema!), name: `${place} / ${schema}` }
  const isOwn = place === CLUSTER_WIDE || place?.startsWith('kube-')
  return (kind === 'object' || kind === 'volume') && !isOwn ? { path: placeOf(path), name: `${source} / ${place}` } : null
}

/** What no vessel protects, by schema: what appeared last comes first, of one look the heaviest. */
export async function unprotected(engine: EngineContext): Promise<Unprotected[]> {
  const { things, claims } = await claimed(engine)
  const found = new Map<string, Unprotected>()
  for (const thing of things) {
    if (claims.has(thing.path)) continue
    const place = unprotectedPlace(thing)
    if (!place) continue
    const { path } = place
    const entry = found.get(path) ?? { ...place, tables: 0, bytes: 0, since: thing.since }
    entry.tables++
    if (thing.since > entry.since) entry.since = thing.since
    entry.bytes += thing.facts.bytes ?? 0
    found.set(path, entry)
  }
  return [...found.values()].sort((a, b) => b.since.getTime() - a.since.getTime() || b.bytes - a.bytes)
}

/** Points of which something can't be read any more, vessel by vessel. */
async function damagedPoints(engine: EngineContext, vessels: VesselStanding[]): Promise<Attention[]> {
  const rows = await engine.db
    .selectFrom('point')
    .select(['vessel_id', 'at', 'damage'])
    .where('damage', 'is not', null)
    .orderBy('at', 'desc')
    .execute()
  return [...grouped(rows, ({ vessel_id: id }) => id)].flatMap(([id, points]): Attention[] => {
    const vessel = vessels.find((vessel) => vessel.id === id)
    const [newest] = points
    if (!vessel) return []
    return [
      {
        level: 'error',
        what: `${plural(points.length, 'point')} of ${vessel.name} can’t come back whole. ${newest!.damage![0]!.path}: ${newest!.damage![0]!.reason}`,
        since: newest!.at,
        action: 'Look at the points',
        to: `/vessels/${vessel.slug}?at=${newest!.at.toISOString()}`,
      },
    ]
  })
}
