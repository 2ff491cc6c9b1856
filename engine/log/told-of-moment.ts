import type { StructureStep } from '../../core/changes/manifest'
import type { DatabaseManifest, Missing, TableManifest } from '../../core/content/manifest'
import { kindOf } from '../../core/restore/kinds'
import { keyOf } from '../../core/restore/merge'
import { isTableEntry } from '../../core/restore/structure'
import { pathOf } from '../../core/things/thing'
import type { Touches } from './touches'
import type { Ingredients } from './view'

// What is told of a moment whose structure is not known in every part, with the reason.

export const INEXACT = 'Its definition was changed several times around this moment; it is shown as it was soon after.'

export const UNTOLD =
  'What a change of the structure shortly before did could not be told by the source; what is shown may be from before it.'

export const UNLOOKED =
  'The source does not tell when its structure is changed, and nobody has looked since this moment: what was changed shortly before it does not show yet.'

const BETWEEN =
  'Something of the structure was changed about this moment, and the source does not tell when: it is shown as before that change, and what came and went in between does not show.'

/**
 * Things that had changed by the next look, where nothing tells whether before this position or after it. That something
 * had is said of all: what was made and dropped again, or changed and changed back, is in neither.
 */
export function differing(from: Ingredients, found: DatabaseManifest, later: DatabaseManifest): Missing[] {
  const text = (table: TableManifest) => JSON.stringify(table.structure)
  const was = new Map(found.tables.map((table) => [table.path, text(table)]))
  const is = new Map(later.tables.map((table) => [table.path, text(table)]))
  const sql = ({ entries }: DatabaseManifest) =>
    new Map(entries.map(({ type, schema, name, sql }) => [[schema, type, name].join(' '), sql]))
  const [earlier, now] = [sql(found), sql(later)]
  const paths = [...new Set([...was.keys(), ...is.keys()])].filter((path) => was.get(path) !== is.get(path))
  const others = [...new Set([...earlier.keys(), ...now.keys()])].filter((key) => earlier.get(key) !== now.get(key))
  const note = (path: string, reason: string): Missing => ({ path, reason, note: true })
  const why = 'Its structure was changed about this moment, and the source does not tell when: it is shown as before that change.'
  return [...paths.map((path) => note(path, why)), betweenLooksOf(from, found.name, others)]
}

/** @param others things that differ before and after, by schema, type and name */
export function betweenLooksOf(from: Ingredients, database: string, others: string[] = []): Missing {
  const some = others.length > 0 ? ` (${others.slice(0, 3).join(', ')}${others.length > 3 ? ', …' : ''})` : ''
  return { path: pathOf(from.full.member, database), reason: `${BETWEEN}${some}`, note: true }
}

/** Things that were there at the moment, and were gone again before anybody read how they are made. */
export function neverRead(
  from: Ingredients,
  before: DatabaseManifest,
  after: DatabaseManifest,
  steps: StructureStep[],
  touches: Touches,
): Missing[] {
  const read = new Set([...before.entries, ...after.entries].map(keyOf))
  const named = new Map(steps.flatMap(({ named = {} }) => Object.entries(named)))
  return [...named].flatMap(([key, { kind, name }]): Missing[] => {
    if (read.has(key) || touches.isGone(key)) return []
    const publication = / in publication (.*)$/.exec(name)?.[1]
    const names = publication
      ? [publication]
      : name
          .replace(/\(.*$/s, '')
          .split('.')
          .map((part) => part.replaceAll('"', ''))
    const reason = `${kind} ${name} was made before this moment and changed or dropped soon after, before it was read: how it was made is not known.`
    return [{ path: pathOf(from.full.member, before.name, ...names), reason }]
  })
}

/** Of a table that was written anew, some things are in no description of ours. */
export function partsUnknown(
  wrong: string[],
  known: Map<string, TableManifest>,
  origins: Map<string, 'before' | 'after'>,
  readings: DatabaseManifest[],
  isRead: boolean,
): Missing[] {
  const unread =
    'Its structure is still to be read after it was changed: comments on its parts and the owner of its statistics may be missing.'
  const gone = 'It was gone before its structure was read: comments on its parts and the owner of its statistics are not known.'
  const soon = 'Statistics targets and storage of its columns were changed about this moment; they may be those of soon after.'
  const settings = (oid: number, { entries }: DatabaseManifest) =>
    /^ALTER TABLE [\s\S]*$/m.exec(entries.find((entry) => isTableEntry(entry) && entry.oid === oid)?.sql ?? '')?.[0]
  return wrong.flatMap((thing): Missing[] => {
    const { oid, path } = known.get(thing)!
    if (!origins.has(thing)) return [{ path, reason: isRead ? gone : unread, note: true }]
    const [a, b] = readings.map((reading) => settings(oid, reading))
    return a === b ? [] : [{ path, reason: soon, note: true }]
  })
}

/** That a thing is shown as it was read at another moment; of a part without a name of its own, the table is named. */
export function inexact(from: Ingredients, thing: string, read: DatabaseManifest[], reason: string): Missing {
  const root = [from.full.member, from.full.databases[0]!.name]
  const entry = read.flatMap(({ entries }) => entries).find((candidate) => keyOf(candidate) === thing)
  const table = entry && read.flatMap(({ tables }) => tables).find(({ oid }) => oid === entry.of)
  const named = entry && kindOf(entry) !== undefined ? entry : (table ?? { schema: entry?.schema ?? null, name: null })
  const names = [named.schema, named.name].filter((name) => name !== null)
  return { path: pathOf(...root, ...names), reason, note: true }
}
