import { lastName, namesOf } from '../../core/things/thing'
import { capital, countInWords, plural } from '../../core/time/words'
import type { GoneFrom, ToldLoss } from './loss'

// What was lost, in a sentence.

const NAMED = 3

/** Names in a list, the first of them. */
function listed(paths: string[]): string {
  const names = paths.slice(0, NAMED).map((path) => lastName(path))
  return `${names.join(', ')}${paths.length > NAMED ? '…' : ''}`
}

const shortName = (path: string) => namesOf(path).slice(2).join('.')
const placeName = (path: string) => namesOf(path).slice(0, 2).join(' / ')

/** How many rows, of tables of which all are known. */
export function rowsLost(tables: ToldLoss['tables']): number | null {
  return tables.some(({ rows }) => rows === null) ? null : tables.reduce((sum, { rows }) => sum + rows!, 0)
}

export function toldInWords({ kind, tables }: Pick<ToldLoss, 'kind' | 'tables'>, isThere: boolean): string {
  const paths = tables.map(({ path }) => path)
  const [first] = tables
  const rows = rowsLost(tables)
  const place = placeName(first!.path)
  const what = tables.length === 1 ? shortName(first!.path) : `${plural(tables.length, 'table')} (${listed(paths)})`
  const about = tables.some(({ isAbout }) => isAbout) ? 'about ' : ''
  const was = tables.length === 1 ? 'was' : 'were'
  if (kind === 'columns') {
    const columns = tables.flatMap((table) => table.columns ?? [])
    return `${plural(columns.length, 'column')} of ${what} in ${place} ${columns.length === 1 ? 'was' : 'were'} dropped: ${columns.slice(0, NAMED).join(', ')}${columns.length > NAMED ? '…' : ''}.`
  }
  if (kind === 'removed') {
    if (rows === null) return `${what} in ${place} ${was} emptied.`
    return `${capital(about)}${countInWords(rows)} ${rows === 1 ? 'row' : 'rows'} of ${what} in ${place} ${rows === 1 ? 'was' : 'were'} deleted.`
  }
  const withRows = rows === null ? '' : `, with ${about}${countInWords(rows)} ${rows === 1 ? 'row' : 'rows'}`
  if (isThere) return `${what} in ${place} ${was} dropped${withRows}, and made anew without them.`
  return `${what} ${was} dropped from ${place}${withRows}.`
}

export function goneInWords({ place, whole, paths, kinds }: Pick<GoneFrom, 'place' | 'whole' | 'paths' | 'kinds'>): string {
  const [source, ...names] = namesOf(place)
  if (whole) return `The ${whole} ${names.at(-1)} is gone from ${[source, ...names.slice(0, -1)].join(' / ')}.`
  const isTables = [...kinds].every((kind) => kind === 'table')
  if (isTables && paths.length === 1) return `${names[1]}.${lastName(paths[0]!)} is gone from ${source} / ${names[0]}.`
  const what = isTables ? `${plural(paths.length, 'table')} of ${names[1]}` : plural(paths.length, 'thing')
  return `${what} ${paths.length === 1 ? 'is' : 'are'} gone from ${source} / ${names[0]}: ${listed(paths)}.`
}
