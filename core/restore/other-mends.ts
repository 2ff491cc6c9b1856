import { statementText } from '../compare/dump'
import type { DatabaseManifest } from '../content/manifest'
import type { Mend } from './mends'
import { renameRoles } from './roles'
import { entryWords, rootsOf, type StructureEntry } from './structure'
import { definitionKey } from './target'

// What differs between a thing without rows then and now: its definition, and what can be made equal beside it.

export interface OtherDifference {
  /** Its definition, or a part of it that is made with it only, in words; empty where they are the same. */
  definition: string[]
  /** Owner, rights and comments, which can be made equal while it stands. */
  mends: Mend[]
}

const BESIDE = new Set(['ACL', 'COMMENT', 'SECURITY LABEL'])
const known = new WeakMap<StructureEntry[], Map<number, StructureEntry[]>>()

/** Entries of a structure by the id of the thing that they belong to, its own first. */
export function partsByRoot(entries: StructureEntry[], sequences: DatabaseManifest['sequences']): Map<number, StructureEntry[]> {
  const before = known.get(entries)
  if (before) return before
  const roots = rootsOf(entries, sequences)
  const parts = new Map<number, StructureEntry[]>()
  for (const entry of entries) parts.set(roots.get(entry.id)!, [...(parts.get(roots.get(entry.id)!) ?? []), entry])
  known.set(entries, parts)
  return parts
}

/**
 * @param before entries of the thing, its own first; `now` is what a dump of the target has for it
 * @param roles names of roles at the target
 */
export function otherDifference(before: StructureEntry[], now: StructureEntry[], roles: Record<string, string>): OtherDifference {
  const [was, current] = [before[0]!, now[0]!]
  const moved = was.ownerSql !== null && (roles[was.owner ?? ''] ?? was.owner) !== current.owner
  return {
    definition: [
      ...(statementText(was) === statementText(current) ? [] : ['definition']),
      ...partWords(
        before.slice(1).filter(({ type }) => !BESIDE.has(type)),
        now.slice(1).filter(({ type }) => !BESIDE.has(type)),
      ),
    ],
    mends: [...(moved ? [ownerMend(was, roles)] : []), ...rightsMends(before, now, roles, moved), ...commentMends(before, now)],
  }
}

/** Parts that are not the same then and now, in words. */
function partWords(before: StructureEntry[], now: StructureEntry[]): string[] {
  const texts = (entries: StructureEntry[]) => new Map(entries.map((entry) => [definitionKey(entry), entry]))
  const [a, b] = [texts(before), texts(now)]
  const differ = [...a].filter(([key, entry]) => !b.has(key) || statementText(b.get(key)!) !== statementText(entry))
  const more = [...b].filter(([key]) => !a.has(key))
  return [...differ, ...more].map(([, entry]) => entryWords(entry))
}

function ownerMend({ ownerSql, owner }: StructureEntry, roles: Record<string, string>): Mend {
  const sql = withoutEnd(renameRoles(ownerSql!, roles))
  return { words: `owner back to ${roles[owner ?? ''] ?? owner}`, before: [], after: [sql] }
}

/** Rights of a thing are given anew as a whole, because what was given since is in no statement of then. */
function rightsMends(earlier: StructureEntry[], now: StructureEntry[], roles: Record<string, string>, moved: boolean): Mend[] {
  const rights = (entries: StructureEntry[]) => entries.filter(({ type }) => type === 'ACL')
  const [wanted, found] = [rights(earlier), rights(now)]
  if (wanted.length + found.length === 0) return []
  const text = (entries: StructureEntry[], sql: (entry: StructureEntry) => string) => entries.map(sql).sort().join('\n')
  if (!moved && text(wanted, (entry) => renameRoles(entry.sql, roles)) === text(found, ({ sql }) => sql)) return []
  const whole = [...wanted, ...found].find(({ name }) => !name.startsWith('COLUMN ')) ?? null
  const resets = whole ? { schema: whole.schema, name: whole.name } : columnsOf(earlier[0]!)
  const after = wanted.flatMap(({ sql }) => renameRoles(sql, roles).split(/;\s*\n/)).map(withoutEnd)
  return [{ words: 'rights as then', before: [], after: after.filter(Boolean), resets }]
}

/** Rights of columns alone hang on the relation, whose rights are taken with them. */
const columnsOf = ({ schema, name }: StructureEntry) => ({ schema, name: `TABLE ${name}` })

function commentMends(earlier: StructureEntry[], now: StructureEntry[]): Mend[] {
  const comments = (entries: StructureEntry[]) =>
    new Map(entries.filter(({ type }) => type === 'COMMENT').map((entry) => [definitionKey(entry), entry]))
  const [wanted, found] = [comments(earlier), comments(now)]
  const mend = ({ name }: StructureEntry, sql: string): Mend => ({
    words: `comment on ${name} as then`,
    before: [],
    after: [withoutEnd(sql)],
  })
  const gone = [...found]
    .filter(([key]) => !wanted.has(key))
    .map(([, entry]): Mend => ({ ...mend(entry, withoutText(entry.sql)), mayBeGone: true }))
  const differ = [...wanted].filter(([key, { sql }]) => found.get(key)?.sql !== sql).map(([, entry]) => mend(entry, entry.sql))
  return [...gone, ...differ]
}

/**
 * The statement that gives a sequence that stands all options of the one that made it: by itself, or for an identity
 * column. The dump leaves out what is usual.
 */
export function alteredSequence(sql: string): string {
  const [, name, options] = /SEQUENCE (?:NAME )?([^\n]+)\n([\s\S]*?)\n?\)?;?\s*$/.exec(sql)!
  const given = options!.split('\n').map((line) => line.trim())
  const has = (option: string) => given.some((line) => line.startsWith(option))
  const isOfColumn = !/^CREATE /.test(sql)
  const usual = [...(has('AS ') || isOfColumn ? [] : ['AS bigint']), ...(has('CYCLE') ? [] : ['NO CYCLE'])]
  return `ALTER SEQUENCE ${name} ${[...usual, ...given].filter(Boolean).join(' ')}`
}

/** What is made equal of the sequences that columns of a table own. Both lists are the entries of that table. */
export function ownedSequenceMends(earlier: StructureEntry[], now: StructureEntry[], roles: Record<string, string>): Mend[] {
  const of = (entries: StructureEntry[], { schema, name }: StructureEntry) =>
    entries
      .filter(
        (entry) =>
          entry.schema === schema &&
          ((entry.type === 'SEQUENCE' && entry.name === name) || (BESIDE.has(entry.type) && entry.name === `SEQUENCE ${name}`)),
      )
      .sort((a, b) => Number(BESIDE.has(a.type)) - Number(BESIDE.has(b.type)))
  return earlier.flatMap((sequence) => {
    if (sequence.type !== 'SEQUENCE') return []
    const [wanted, found] = [of(earlier, sequence), of(now, sequence)]
    if (found[0]?.type !== 'SEQUENCE') return []
    const { definition, mends } = otherDifference(wanted, found, roles)
    const altered: Mend[] = definition.length > 0 ? [{ words: 'as then', before: [], after: [alteredSequence(sequence.sql)] }] : []
    return [...altered, ...mends].map((mend) => ({ ...mend, words: `sequence ${sequence.name}: ${mend.words}` }))
  })
}

/**
 * Comments on constraints, indexes, triggers, rules, policies and statistics of a table. Parts that are made again lose
 * theirs, so that all of them are written again then. Both lists are the entries of that table.
 */
export function partCommentMends(earlier: StructureEntry[], now: StructureEntry[], remade: boolean): Mend[] {
  const onParts = (entries: StructureEntry[]) =>
    entries.filter(({ type, name }) => type === 'COMMENT' && !/^(TABLE|COLUMN|SEQUENCE) /.test(name))
  const [wanted, found] = [onParts(earlier), onParts(now)]
  const differ = commentMends(wanted, found)
  if (!remade || wanted.length === 0) return differ
  const again = { words: 'comments on its parts as then', before: [], after: wanted.map(({ sql }) => withoutEnd(sql)) }
  return [...differ.filter(({ mayBeGone }) => mayBeGone), again]
}

const withoutEnd = (sql: string) => sql.trim().replace(/;\s*$/, '')
/** A comment's statement with nothing in place of its text, which is the last string of it. */
const withoutText = (sql: string) => sql.replace(/ IS '(?:[^']|'')*';?\s*$/, ' IS NULL')
