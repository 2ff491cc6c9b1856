import { CONTAINER_KINDS, isWithin, namesOf, pathOf, type ThingFacts, type ThingKind } from '../../core/things/thing'
import type { ErrorRecord } from '../../core/errors'
import type { EngineContext } from '../context'
import type { ProbeReport } from '../sources/source'
import { claimed, type Claim } from './claims'

/** A thing as a column of the estate shows it, with what lies in it summed up. */
export interface EstateThing {
  path: string
  name: string
  kind: ThingKind
  facts: ThingFacts
  /** Things with rows in it, itself not counted. */
  tables: number
  bytes: number
  rows: number
  /** How much of it is protected. */
  cover: 'all' | 'part' | 'none'
  claims: Claim[]
  goneAt: Date | null
}

export interface EstateSource {
  id: string
  name: string
  settings: { host: string; port: number; user: string; tls: string }
  probe: ProbeReport | null
  discoveredAt: Date | null
  trouble: ErrorRecord | null
}

export async function estateSources(engine: EngineContext): Promise<EstateSource[]> {
  const rows = await engine.db.selectFrom('source').selectAll().orderBy('name').execute()
  return rows.map(({ id, name, settings, probe, discovered_at, trouble }) => {
    const { host, port, user, tls } = settings as EstateSource['settings']
    return { id, name, settings: { host, port, user, tls }, probe, discoveredAt: discovered_at, trouble }
  })
}

interface Sum {
  tables: number
  bytes: number
  rows: number
  covered: number
  claims: Map<string, Claim>
}

const hasRows = (kind: ThingKind) => kind === 'table' || kind === 'materialized-view'

/** What lies directly in a container (or the sources themselves, for null), gone things included. */
export async function estateChildren(engine: EngineContext, path: string | null): Promise<EstateThing[]> {
  const depth = path === null ? 1 : namesOf(path).length + 1
  const { things, claims } = await claimed(engine, path === null ? undefined : namesOf(path)[0])
  const sums = new Map<string, Sum>()
  for (const thing of things) {
    if (path !== null && !isWithin(thing.path, path)) continue
    const names = namesOf(thing.path)
    if (names.length < depth || CONTAINER_KINDS.has(thing.kind)) continue
    const child = pathOf(...names.slice(0, depth))
    const sum = sums.get(child) ?? { tables: 0, bytes: 0, rows: 0, covered: 0, claims: new Map() }
    sums.set(child, sum)
    const own = claims.get(thing.path) ?? []
    for (const claim of own) sum.claims.set(claim.slug, claim)
    if (!hasRows(thing.kind) && names.length > depth) continue
    sum.tables++
    sum.bytes += thing.facts.bytes ?? 0
    sum.rows += thing.facts.rows ?? 0
    if (own.length > 0) sum.covered++
  }
  const rows = await childRows(engine, path)
  return rows.map((row) => {
    const sum = sums.get(row.path)
    const cover = !sum || sum.covered === 0 ? 'none' : sum.covered < sum.tables ? 'part' : 'all'
    return {
      path: row.path,
      name: namesOf(row.path).at(-1)!,
      kind: row.kind,
      facts: row.facts,
      tables: sum?.tables ?? 0,
      bytes: sum?.bytes ?? 0,
      rows: sum?.rows ?? 0,
      cover,
      claims: [...(sum?.claims.values() ?? [])],
      goneAt: row.gone_at,
    }
  })
}

function childRows(engine: EngineContext, path: string | null) {
  const query = engine.db.selectFrom('thing').select(['path', 'kind', 'facts', 'gone_at']).orderBy('path')
  if (path === null) return query.where('kind', '=', 'server').execute()
  const from = path.length + 2
  return query
    .where((eb) => eb(eb.fn<boolean>('starts_with', ['path', eb.val(`${path}/`)]), '=', true))
    .where((eb) => eb(eb.fn<number>('strpos', [eb.fn<string>('substr', ['path', eb.val(from)]), eb.val('/')]), '=', 0))
    .execute()
}
