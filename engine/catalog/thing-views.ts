import { CONTAINER_KINDS, isWithin, namesOf, pathOf, type ThingFacts, type ThingKind } from '../../core/things/thing'
import type { ErrorRecord } from '../../core/errors'
import type { QuietTime } from '../../core/plan/quiet'
import type { Pause } from '../../core/plan/state'
import type { EngineContext } from '../context'
import type { SourceKind } from '../sources/adapter'
import type { ClusterSettings } from '../sources/kubernetes/access'
import type { PostgresSettings } from '../sources/postgres/connect'
import type { ProbeReport } from '../sources/source'
import { claimed, type Claim } from './claims'

/** A thing as a column under Sources shows it, with what lies in it summed up. */
export interface ThingView {
  path: string
  name: string
  kind: ThingKind
  labels: Record<string, string>
  facts: ThingFacts
  /** Things with rows in it, itself not counted. */
  tables: number
  bytes: number
  rows: number
  /** How much of it is protected. */
  cover: 'all' | 'part' | 'none'
  claims: Claim[]
  /** When it was found first. */
  since: Date
  goneAt: Date | null
}

export interface SourceView {
  id: string
  name: string
  kind: SourceKind
  address: string
  user: string
  /** How what is sent is kept from others, in words. */
  tls: string
  /** All but what signs in. */
  settings: PostgresSettings | ClusterSettings
  probe: ProbeReport | null
  discoveredAt: Date | null
  trouble: ErrorRecord | null
  /** Why what is taken from it is paused; null where it is not. */
  pause: Pause | null
  /** When no plan begins anything there. */
  quiet: QuietTime[]
  /** How many runs may work at it at once; null: as many as there are. */
  atOnce: number | null
}

export async function sourceViews(engine: EngineContext): Promise<SourceView[]> {
  const rows = await engine.db
    .selectFrom('source')
    .leftJoin('wider_pause', 'wider_pause.source_id', 'source.id')
    .selectAll('source')
    .select('wider_pause.pause')
    .orderBy('name')
    .execute()
  return rows.map(({ id, name, kind, settings, probe, discovered_at, trouble, pause, quiet, at_once: atOnce }) => {
    const reachable = settings as unknown as PostgresSettings | ClusterSettings
    const reached = 'host' in reachable ? postgresReach(reachable) : clusterReach(reachable)
    return { id, name, kind, ...reached, settings: reachable, probe, discoveredAt: discovered_at, trouble, pause, quiet, atOnce }
  })
}

const postgresReach = ({ host, port, user, tls }: PostgresSettings) => ({ address: `${host}:${port}`, user, tls })
const clusterReach = ({ server, user, unverified }: ClusterSettings) => ({
  address: server,
  user,
  tls: server.startsWith('https:') ? (unverified ? 'not verified' : 'verified') : 'off',
})

interface Sum {
  tables: number
  bytes: number
  rows: number
  covered: number
  claims: Map<string, Claim>
}

/** What counts where things are summed up: of a server what has rows, of a cluster everything. */
const counts = (kind: ThingKind) => kind === 'table' || kind === 'materialized-view' || kind === 'object' || kind === 'volume'

/** How deep the things lie that stand in a container: those of a namespace are in it directly, whatever their path. */
const childOf = (names: string[], depth: number, kind: ThingKind) =>
  depth > 2 && (kind === 'object' || kind === 'volume') ? names : names.slice(0, depth)

/** What lies directly in a container (or the sources themselves, for null), gone things included. */
export async function thingsUnder(engine: EngineContext, path: string | null): Promise<ThingView[]> {
  const depth = path === null ? 1 : namesOf(path).length + 1
  const { things, claims } = await claimed(engine, path === null ? undefined : namesOf(path)[0])
  const sums = new Map<string, Sum>()
  for (const thing of things) {
    if (path !== null && !isWithin(thing.path, path)) continue
    const names = namesOf(thing.path)
    if (names.length < depth || CONTAINER_KINDS.has(thing.kind)) continue
    const child = pathOf(...childOf(names, depth, thing.kind))
    const sum = sums.get(child) ?? { tables: 0, bytes: 0, rows: 0, covered: 0, claims: new Map() }
    sums.set(child, sum)
    const claimed = claims.get(thing.path) ?? []
    for (const claim of claimed) sum.claims.set(claim.slug, claim)
    if (!counts(thing.kind) && names.length > depth) continue
    sum.tables++
    sum.bytes += thing.facts.bytes ?? 0
    sum.rows += thing.facts.rows ?? 0
    if (claimed.length > 0) sum.covered++
  }
  const rows = await childRows(engine, path)
  return rows.map((row) => {
    const sum = sums.get(row.path)
    const cover = !sum || sum.covered === 0 ? 'none' : sum.covered < sum.tables ? 'part' : 'all'
    return {
      path: row.path,
      name: namesOf(row.path).at(-1)!,
      kind: row.kind,
      labels: row.labels,
      facts: row.facts,
      tables: sum?.tables ?? 0,
      bytes: sum?.bytes ?? 0,
      rows: sum?.rows ?? 0,
      cover,
      claims: [...(sum?.claims.values() ?? [])],
      since: row.first_seen,
      goneAt: row.gone_at,
    }
  })
}

function childRows(engine: EngineContext, path: string | null) {
  const query = engine.db.selectFrom('thing').select(['path', 'kind', 'labels', 'facts', 'first_seen', 'gone_at']).orderBy('path')
  if (path === null) return query.where('kind', 'in', ['server', 'cluster']).execute()
  const from = path.length + 2
  return query
    .where((eb) => eb(eb.fn<boolean>('starts_with', ['path', eb.val(`${path}/`)]), '=', true))
    .where((eb) =>
      eb.or([
        eb(eb.fn<number>('strpos', [eb.fn<string>('substr', ['path', eb.val(from)]), eb.val('/')]), '=', 0),
        // A namespace holds its objects and volumes directly.
        ...(namesOf(path).length === 2 ? [eb('kind', 'in', ['object', 'volume'])] : []),
      ]),
    )
    .execute()
}
