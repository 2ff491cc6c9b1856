import { fieldsOf } from '../../core/compare/rows'
import type { TableManifest } from '../../core/content/manifest'
import { errorRecord, type ErrorRecord } from '../../core/errors'
import { readyFilter, type Ready } from '../../core/look/filter'
import { historyOf, type Fate, type Sighting } from '../../core/look/history'
import type { EngineContext } from '../context'
import { openPoint, rowsOf } from '../points/open'
import type { Store } from '../store/store'
import { candidateChunks, scan } from './rows'

export interface HistoryQuery {
  path: string
  column: string
  value: string
  /** Points older than this one, for going on. */
  before: Date | null
}

export interface PointSighting {
  id: string
  at: Date
  name: string | null
  fate: Fate
  columns: string[]
  changed: string[]
  rows: (string | null)[][]
  /** More rows match than are shown. */
  more: boolean
}

export interface RowHistory {
  /** The newest point first. */
  points: PointSighting[]
  /** Where to go on with older points; null at the oldest. */
  before: Date | null
  /** Points that could not be read. */
  troubles: { at: Date; error: ErrorRecord }[]
}

const POINTS = 40
const ROWS = 12
/** Points that are looked into at once. */
const AT_ONCE = 4

interface Place {
  id: string
  at: Date
  name: string | null
}

/**
 * In which points of a vessel rows with a value are, and how they went from point to point. A chunk that several
 * points share is looked into once.
 */
export async function rowHistory(engine: EngineContext, vesselId: string, query: HistoryQuery): Promise<RowHistory> {
  let points = engine.db
    .selectFrom('point')
    .select(['id', 'at', 'name'])
    .where('vessel_id', '=', vesselId)
    .where('kept_for', 'is', null)
    .orderBy('at', 'desc')
    .limit(POINTS + 1)
  if (query.before) points = points.where('at', '<', query.before)
  const found = await points.execute()
  const search = new Search(engine, query)
  const troubles: RowHistory['troubles'] = []
  const looking = [...found].reverse().map(
    (point) => async () =>
      search.in(point).catch((error: unknown) => {
        const record = errorRecord(error, 'Nothing was changed.')
        if (record.code.startsWith('filter_')) throw error
        troubles.push({ at: point.at, error: record })
        return null
      }),
  )
  const sightings: Sighting<Place>[] = []
  while (looking.length > 0) {
    const some = await Promise.all(looking.splice(0, AT_ONCE).map((look) => look()))
    sightings.push(...some.filter((sighting) => sighting !== null))
  }
  search.requireTable()
  const entries = historyOf(sightings, search.key)
  // The oldest one of a page only tells how the next one differs from it.
  const isLast = found.length <= POINTS
  const shown = isLast ? entries : entries.slice(1)
  return { points: shown.reverse().map(sightingView), before: isLast ? null : (found[POINTS - 1]?.at ?? null), troubles }
}

function sightingView({ point, fate, columns, changed, lines }: ReturnType<typeof historyOf<Place>>[number]): PointSighting {
  const all = lines ?? []
  return { ...point, fate, columns, changed, rows: all.slice(0, ROWS).map(fieldsOf), more: all.length > ROWS }
}

class Search {
  private readonly known = new Map<string, Promise<string[]>>()
  private seen = false
  private complaint: unknown
  key: string[] | null = null

  constructor(
    private readonly engine: EngineContext,
    private readonly query: HistoryQuery,
  ) {}

  async in(place: Place): Promise<Sighting<Place>> {
    const point = await openPoint(this.engine, place.id, rowsOf(this.query.path))
    const tables = point.members.flatMap(({ manifest }) => manifest.databases.flatMap((database) => database.tables))
    const table = tables.find(({ path }) => path === this.query.path)
    if (!table) return { point: place, columns: [], lines: null }
    const filter = this.filterFor(table)
    if (!filter) return { point: place, columns: table.columns, lines: null }
    this.key = table.key
    return { point: place, columns: table.columns, lines: await this.linesOf(point.store, table, filter) }
  }

  /** A column that was not there yet in an older point holds nothing; one that is in no point is a mistake. */
  private filterFor(table: TableManifest): Ready[] | null {
    const { column, value } = this.query
    try {
      const filter = readyFilter([{ column, op: '=', value }], table.columns, table.structure.columns)
      this.seen = true
      return filter
    } catch (error) {
      this.complaint = error
      if ((error as { code?: string }).code !== 'filter_column') throw error
      return null
    }
  }

  requireTable(): void {
    if (!this.seen && this.complaint) throw this.complaint
  }

  private async linesOf(store: Store, table: TableManifest, filter: Ready[]): Promise<string[]> {
    const found = await Promise.all(
      candidateChunks(table, filter).map((chunk) => {
        const key = `${store.id} ${table.chunks.at(chunk)!.name} ${filter[0]!.at}`
        const known = this.known.get(key) ?? scan(store, table, chunk, filter, 0, ROWS).then(({ lines }) => lines)
        this.known.set(key, known)
        return known
      }),
    )
    return found.flat()
  }
}
