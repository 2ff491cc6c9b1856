import { bytesOf, hasStrays } from '../content/text'

// A lexer of PostgreSQL's SQL, as far as its own dump utility writes it (standard_conforming_strings on),
// and the two things that restores need of it: identifiers in and out of quotes, and giving new names to
// the things that a statement speaks of.

export interface Token {
  kind: 'word' | 'quoted' | 'string' | 'dollar' | 'space' | 'other'
  text: string
}

const PATTERNS: [Token['kind'], RegExp][] = [
  ['space', /(?:\s+|--[^\n]*|\/\*[\s\S]*?\*\/)+/y],
  ['string', /[eE]'(?:[^'\\]|\\[\s\S]|'')*'/y],
  ['string', /'(?:[^']|'')*'/y],
  ['dollar', /\$([A-Za-z_\u0080-\uffff][\w\u0080-\uffff]*)?\$[\s\S]*?\$\1\$/y],
  ['quoted', /"(?:[^"]|"")*"/y],
  ['word', /[A-Za-z_\u0080-\uffff][\w$\u0080-\uffff]*/y],
  ['other', /\d+(?:\.\d+)?|[\s\S]/y],
]

/** Splits SQL into tokens; joined again they are the same text. */
export function tokensOf(sql: string): Token[] {
  const tokens: Token[] = []
  for (let at = 0; at < sql.length;) {
    for (const [kind, pattern] of PATTERNS) {
      pattern.lastIndex = at
      const match = pattern.exec(sql)
      if (!match) continue
      tokens.push({ kind, text: match[0] })
      at += match[0].length
      break
    }
  }
  return tokens
}

/** Quotes an identifier. Always, so that no list of reserved words has to be kept. */
export function quoteIdentifier(name: string): string {
  if (name.includes('\0')) throw new Error('an identifier cannot hold a zero byte')
  return `"${name.replaceAll('"', '""')}"`
}

/** An identifier as the server writes it: with quotes only where its characters need them. */
export const plainIdentifier = (name: string): string => (/^[a-z_][a-z0-9_]*$/.test(name) ? name : quoteIdentifier(name))

export function qualified(schema: string, name: string): string {
  return `${quoteIdentifier(schema)}.${quoteIdentifier(name)}`
}

const hexOf = (text: string) => Array.from(bytesOf(text), (byte) => byte.toString(16).padStart(2, '0')).join('')

/** Quotes a text as a literal for a session with standard_conforming_strings on. */
export function quoteLiteral(text: string): string {
  if (hasStrays(text)) return `pg_catalog.convert_from('\\x${hexOf(text)}'::pg_catalog.bytea, 'SQL_ASCII')`
  return `'${text.replaceAll("'", "''")}'`
}

/** The name that an identifier token stands for, or undefined if the token is none. */
export function identifierOf(token: Token | undefined): string | undefined {
  if (token?.kind === 'quoted') return token.text.slice(1, -1).replaceAll('""', '"')
  if (token?.kind === 'word') return token.text.toLowerCase()
  return undefined
}

/** New names for qualified things, for schemas, and for index names where they stand unqualified. */
export interface Renaming {
  /** `schema`, `name` -> where it goes. */
  things: Map<string, { schema: string; name: string }>
  indexes: Map<string, string>
  schemas: Map<string, string>
}

export const thingKey = (schema: string, name: string) => `${quoteIdentifier(schema)}.${quoteIdentifier(name)}`

export function noRenaming(): Renaming {
  return { things: new Map(), indexes: new Map(), schemas: new Map() }
}

/**
 * Writes a statement with the new names: pairs `schema.name` anywhere, in `'schema.name'::regclass` too,
 * index and constraint names behind INDEX, CONSTRAINT, USING INDEX and CLUSTER ON, and schemas behind SCHEMA.
 * Bodies of functions ($$...$$) are not touched.
 */
export function rename(sql: string, renaming: Renaming): string {
  const tokens = tokensOf(sql)
  const significant = tokens.map((_, i) => i).filter((i) => tokens[i]!.kind !== 'space')
  for (let k = 0; k < significant.length; k++) {
    const [a, b, c] = [0, 1, 2].map((n) => tokens[significant[k + n] ?? -1])
    if (a!.kind === 'string') {
      a!.text = renameRegclass(a!.text, b, c, tokens[significant[k + 3] ?? -1], renaming)
      continue
    }
    const first = identifierOf(a)
    if (first === undefined) continue
    const second = b?.text === '.' ? identifierOf(c) : undefined
    if (second !== undefined) {
      const target = renaming.things.get(thingKey(first, second))
      if (target) {
        a!.text = quoteIdentifier(target.schema)
        c!.text = quoteIdentifier(target.name)
      }
      k += 2
      continue
    }
    const index = renaming.indexes.get(first)
    const schema = renaming.schemas.get(first)
    if (index === undefined && schema === undefined) continue
    const before = [2, 1].map((n) => tokens[significant[k - n] ?? -1]?.text.toUpperCase()).join(' ')
    if (index !== undefined && /(?:INDEX|CONSTRAINT|EXISTS|CLUSTER ON)$/.test(before)) a!.text = quoteIdentifier(index)
    if (schema !== undefined && before.endsWith('SCHEMA')) a!.text = quoteIdentifier(schema)
  }
  return tokens.map((token) => token.text).join('')
}

function renameRegclass(
  text: string,
  colon1: Token | undefined,
  colon2: Token | undefined,
  type: Token | undefined,
  renaming: Renaming,
): string {
  if (colon1?.text !== ':' || colon2?.text !== ':' || type?.text.toLowerCase() !== 'regclass') return text
  const inner = tokensOf(text.slice(1, -1).replaceAll("''", "'"))
  const [schema, dot, name] = inner
  if (inner.length !== 3 || dot!.text !== '.') return text
  const target = renaming.things.get(thingKey(identifierOf(schema) ?? '', identifierOf(name) ?? ''))
  return target ? quoteLiteral(qualified(target.schema, target.name)) : text
}
