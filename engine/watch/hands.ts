import { grouped } from '../../core/grouped'
import { sortMissing } from '../../core/content/missing'
import { CLUSTER_WIDE, lastName, namesOf, pathOf, placeOf, type Thing } from '../../core/things/thing'
import { bytesInWords, plural } from '../../core/time/words'
import type { EngineContext } from '../context'
import { claimed } from '../catalog/claims'
import { sourceViews } from '../catalog/thing-views'
import type { VesselStanding } from '../catalog/standing'

/** Something that a person has to see to, with the way to do it. */
export interface Hand {
  level: 'iron' | 'ochre'
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
}

/** What a person has to see to, what was lost aside (`openLosses`); what is broken first. */
export async function needsHand(engine: EngineContext, vessels: VesselStanding[]): Promise<Hand[]> {
  const hands: Hand[] = []
  for (const source of await sourceViews(engine)) {
    if (source.trouble)
      hands.push({
        level: 'iron',
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
      hands.push({ level: 'iron', what: store.trouble.what, since: store.verified_at, action: 'Look at the store', to: '/stores' })
  }
  hands.push(...(await damagedPoints(engine, vessels)), ...(await logTroubles(engine, vessels)))
  for (const vessel of vessels) {
    const failed = await lastFailed(engine, vessel)
    if (failed)
      hands.push({
        level: 'iron',
        what: `${vessel.name}: ${failed.what}`,
        since: failed.at,
        action: 'What happened',
        to: `/runs/${failed.id}`,
      })
    const { lost, left } = sortMissing(vessel.newest?.missing ?? [])
    if (left.length > 0)
      hands.push({
        level: 'ochre',
        what: `The data of ${plural(left.length, 'volume')} of ${vessel.name} is in one place only, at its source: ${lastName(left[0]!.path)}.`,
        since: vessel.newest!.at,
        action: 'Read it into the store…',
        to: `/vessels/${vessel.slug}?at=${vessel.newest!.at.toISOString()}`,
      })
    if (lost.length > 0) {
      hands.push({
        level: 'ochre',
        what: `${plural(lost.length, 'thing')} of ${vessel.name} could not be captured: ${lastName(lost[0]!.path)}. ${lost[0]!.reason}`,
        since: vessel.newest!.at,
        action: 'What happened',
        to: `/runs/${vessel.newest!.run}`,
      })
    }
  }
  // What is broken stands above what is only frail.
  return [...hands.filter(({ level }) => level === 'iron'), ...hands.filter(({ level }) => level !== 'iron')]
}

/** Logs that are broken, stalled, or keep too much back at their source. */
async function logTroubles(engine: EngineContext, vessels: VesselStanding[]): Promise<Hand[]> {
  const rows = await engine.db.selectFrom('follower').selectAll().execute()
  return rows.flatMap((row): Hand[] => {
    const vessel = vessels.find(({ id }) => id === row.vessel_id)
    if (!vessel) return []
    const to = `/vessels/${vessel.slug}`
    if (row.trouble && row.state !== 'following')
      return [
        {
          level: row.state === 'stalled' ? 'ochre' : 'iron',
          what: `${vessel.name}: ${row.trouble.what}`,
          since: row.since,
          action: 'Look at the lifeline',
          to,
        },
      ]
    if (row.warned)
      return [
        {
          level: 'ochre',
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

/** What no vessel protects, by schema, the heaviest first. */
export async function unprotected(engine: EngineContext): Promise<Unprotected[]> {
  const { things, claims } = await claimed(engine)
  const found = new Map<string, Unprotected>()
  for (const thing of things) {
    if (claims.has(thing.path)) continue
    const place = unprotectedPlace(thing)
    if (!place) continue
    const { path } = place
    const entry = found.get(path) ?? { ...place, tables: 0, bytes: 0 }
    entry.tables++
    entry.bytes += thing.facts.bytes ?? 0
    found.set(path, entry)
  }
  return [...found.values()].sort((a, b) => b.bytes - a.bytes)
}

/** Points of which something can't be read any more, vessel by vessel. */
async function damagedPoints(engine: EngineContext, vessels: VesselStanding[]): Promise<Hand[]> {
  const rows = await engine.db
    .selectFrom('point')
    .select(['vessel_id', 'at', 'damage'])
    .where('damage', 'is not', null)
    .orderBy('at', 'desc')
    .execute()
  return [...grouped(rows, ({ vessel_id: id }) => id)].flatMap(([id, own]): Hand[] => {
    const vessel = vessels.find((one) => one.id === id)
    const [newest] = own
    if (!vessel) return []
    return [
      {
        level: 'iron',
        what: `${plural(own.length, 'point')} of ${vessel.name} can’t come back whole. ${newest!.damage![0]!.path}: ${newest!.damage![0]!.reason}`,
        since: newest!.at,
        action: 'Look at the points',
        to: `/vessels/${vessel.slug}?at=${newest!.at.toISOString()}`,
      },
    ]
  })
}
