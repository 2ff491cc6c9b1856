import type { Mend } from './mends'
import type { StructureEntry } from './structure'

// A type that columns have can't be dropped for another one. What the server can change of it while it stands is made
// as it was then; of all else nothing is done.

const NAME = String.raw`((?:"(?:[^"]|"")*"|[\w$])+\.(?:"(?:[^"]|"")*"|[\w$]+))`
const ENUM = new RegExp(String.raw`^CREATE TYPE ${NAME} AS ENUM \(([\s\S]*)\);?\s*$`)
const COMPOSITE = new RegExp(String.raw`^CREATE TYPE ${NAME} AS \(([\s\S]*)\);?\s*$`)
const DOMAIN = new RegExp(String.raw`^CREATE DOMAIN ${NAME} AS ([\s\S]*?);?\s*$`)

/**
 * The statements that make a type what it was, null where the server has none for it.
 *
 * @param before as a dump wrote it at the moment; `now` as one writes it of the target, under the same name
 */
export function typeMends(before: StructureEntry, now: StructureEntry): Mend[] | null {
  const [enumThen, enumNow] = [ENUM.exec(before.sql), ENUM.exec(now.sql)]
  if (enumThen && enumNow) return enumMends(enumThen[1]!, labelsOf(enumThen[2]!), labelsOf(enumNow[2]!))
  const [domainThen, domainNow] = [DOMAIN.exec(before.sql), DOMAIN.exec(now.sql)]
  if (domainThen && domainNow) return domainMends(domainThen[1]!, domainOf(domainThen[2]!), domainOf(domainNow[2]!))
  const [rowThen, rowNow] = [COMPOSITE.exec(before.sql), COMPOSITE.exec(now.sql)]
  if (rowThen && rowNow) return compositeMends(rowThen[1]!, attributesOf(rowThen[2]!), attributesOf(rowNow[2]!))
  return null
}

const mend = (words: string, after: string[], last: string[] = []): Mend => ({
  words,
  before: [],
  after,
  ...(last.length > 0 ? { last } : {}),
})

/** Labels as literals, in their order. */
const labelsOf = (list: string): string[] => list.match(/'(?:[^']|'')*'/g) ?? []

/** Labels are never taken away, so that as many as then can only have other names, and fewer lack some. */
function enumMends(name: string, before: string[], now: string[]): Mend[] | null {
  if (before.length === now.length) {
    const renamed = before.flatMap((label, i) => (label === now[i] ? [] : [[now[i]!, label] as const]))
    if (renamed.some(([from, to]) => before.includes(from) || now.includes(to))) return null
    return renamed.map(([from, to]) => mend(`label ${from} is called ${to} again`, [`ALTER TYPE ${name} RENAME VALUE ${from} TO ${to}`]))
  }
  if (!isWithin(now, before)) return null
  return before.flatMap((label, i) => {
    if (now.includes(label)) return []
    const place = i > 0 ? ` AFTER ${before[i - 1]}` : now.length > 0 ? ` BEFORE ${now[0]}` : ''
    return [mend(`label ${label} is there again`, [`ALTER TYPE ${name} ADD VALUE ${label}${place}`])]
  })
}

/** Whether all of some labels are among others in the same order. */
function isWithin(some: string[], all: string[]): boolean {
  let at = -1
  return some.every((label) => (at = all.indexOf(label, at + 1)) >= 0)
}

interface Domain {
  type: string
  notNull: boolean
  default: string | null
  /** What each constraint says, by its name as a dump writes it. */
  constraints: Map<string, string>
}

function domainOf(text: string): Domain {
  const [head, ...parts] = text.split('\n\tCONSTRAINT ')
  const [, type, notNull, value] = /^([\s\S]*?)( NOT NULL)?(?: DEFAULT ([\s\S]*))?$/.exec(head!)!
  const constraints = parts.map((part): [string, string] => {
    const [, name, says] = /^("(?:[^"]|"")*"|[\w$]+) ([\s\S]*)$/.exec(part)!
    return [name!, says!.trim()]
  })
  return { type: type!, notNull: notNull !== undefined, default: value ?? null, constraints: new Map(constraints) }
}

/** What forbids more than then goes before rows are loaded; what forbids more than now comes when all of them are there. */
function domainMends(name: string, before: Domain, now: Domain): Mend[] | null {
  if (before.type !== now.type) return null
  const alter = (what: string) => `ALTER DOMAIN ${name} ${what}`
  const wrong = (a: Domain, b: Domain) => [...a.constraints].filter(([key, says]) => b.constraints.get(key) !== says)
  const value = before.default === null ? 'DROP DEFAULT' : `SET DEFAULT ${before.default}`
  return [
    ...(before.default === now.default ? [] : [mend('default as then', [alter(value)])]),
    ...(now.notNull && !before.notNull ? [mend('may be null again', [alter('DROP NOT NULL')])] : []),
    ...(before.notNull && !now.notNull ? [mend('may not be null again', [], [alter('SET NOT NULL')])] : []),
    ...wrong(now, before).map(([key]) => mend(`constraint ${key} is taken off`, [alter(`DROP CONSTRAINT ${key}`)])),
    ...wrong(before, now).map(([key, says]) => mend(`constraint ${key} as then`, [], [alter(`ADD CONSTRAINT ${key} ${says}`)])),
  ]
}

/** An attribute of a row type; the rest is its type, with what a dump writes behind it. */
interface Attribute {
  name: string
  rest: string
}

/** A dump writes each attribute on a line of its own. */
const attributesOf = (text: string): Attribute[] =>
  text.split(/,?\n\t/).flatMap((line) => {
    const [, name, rest] = /^("(?:[^"]|"")*"|[\w$]+) ([\s\S]*?)\s*$/.exec(line.trim()) ?? []
    return name === undefined ? [] : [{ name, rest: rest! }]
  })

/**
 * Attributes that were not there then go, and those that were come behind the ones that stay. Where only names differ,
 * they are named as then, so that what rows hold stays.
 */
function compositeMends(name: string, before: Attribute[], now: Attribute[]): Mend[] | null {
  const alter = (what: string) => `ALTER TYPE ${name} ${what} CASCADE`
  if (before.length === now.length && before.every(({ rest }, i) => rest === now[i]!.rest)) {
    const renamed = before.flatMap((attribute, i) => (attribute.name === now[i]!.name ? [] : [[now[i]!.name, attribute.name] as const]))
    const names = new Set([...before, ...now].map((attribute) => attribute.name))
    if (names.size === before.length + renamed.length)
      return renamed.map(([from, to]) => mend(`attribute ${from} is called ${to} again`, [alter(`RENAME ATTRIBUTE ${from} TO ${to}`)]))
  }
  const isSame = (a: Attribute, b: Attribute | undefined) => a.name === b?.name && a.rest === b.rest
  const gone: Attribute[] = []
  let kept = 0
  for (const attribute of now)
    if (isSame(attribute, before[kept])) kept++
    else gone.push(attribute)
  const added = before.slice(kept)
  return [
    ...gone.map((attribute) => mend(`attribute ${attribute.name} is taken off`, [alter(`DROP ATTRIBUTE ${attribute.name}`)])),
    ...added.map((attribute) =>
      mend(`attribute ${attribute.name} is there again`, [alter(`ADD ATTRIBUTE ${attribute.name} ${attribute.rest}`)]),
    ),
  ]
}
