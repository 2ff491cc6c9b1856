import type { SequenceState } from '../content/manifest'
import { thingKey } from './sql'

/** One entry of the structure as the server's dump utility wrote it, with its dump id and what it needs. */
export interface StructureEntry {
  id: number
  /** Catalog and object id at the source; 0 where the entry stands for no object of its own. */
  catalog: number
  oid: number
  needs: number[]
  name: string
  type: string
  schema: string | null
  owner: string | null
  /** For a part of a relation (constraint, index, trigger…): the relation's object id. */
  of: number | null
  /** For a foreign key: the object id of the table it refers to. */
  refers: number | null
  sql: string
  /** The tablespace it lies in, where that is not the database's own. */
  tablespace?: string
  /** We wrote it, from what is known of the structure, because no dump did. */
  made?: true
  /** How its rows are kept, where that is not the server's own heap. */
  accessMethod?: string
  /** The statement that gives it its owner, apart, because the owner may be missing at the target. */
  ownerSql: string | null
}

const HEADER =
  /^--\n-- TOC entry (\d+) \(class (\d+) OID (\d+)\)\n(?:-- Dependencies:((?: \d+)*)\n)?-- Name: (.*); Type: ([^;]*); Schema: (.*); Owner: (.*)\n(?:-- Data Pos: \d+\n)?--\n\n/gm
const OWNER = /\n+(ALTER [A-Z ]+ (?:(?!;\n)[\s\S])* OWNER TO [^\n]*;)\s*$/

/**
 * Reads what `pg_restore --verbose --file=-` prints of a schema-only archive. `of` and `refers` are filled in
 * by the capture, which asks the catalog. The trailing statements of a dump (its end
 * mark) are dropped; the settings at its start are given by the session that restores.
 */
export function parseStructure(dump: string): StructureEntry[] {
  const headers = [...dump.matchAll(HEADER)]
  // The printed dump switches the tablespace where it changes, so the setting goes on to later entries.
  let tablespace = settingIn(dump.slice(0, headers[0]?.index ?? 0), 'tablespace') ?? ''
  let method = settingIn(dump.slice(0, headers[0]?.index ?? 0), 'table_access_method') ?? HEAP
  const entries = headers.map((match, i) => {
    const text = dump.slice(match.index + match[0].length, headers[i + 1]?.index ?? dump.length)
    const [body, next] = splitTrailing(text)
    tablespace = settingIn(body, 'tablespace') ?? tablespace
    method = settingIn(body, 'table_access_method') ?? method
    const entry = entryOf(match, body)
    if (tablespace !== '' && HAS_TABLESPACE.has(entry.type)) entry.tablespace = tablespace
    if (method !== HEAP && HAS_METHOD.has(entry.type)) entry.accessMethod = method
    tablespace = settingIn(next, 'tablespace') ?? tablespace
    method = settingIn(next, 'table_access_method') ?? method
    return entry
  })
  return withServers(entries)
}

/** The dump does not say that the mapping of a user needs its server. */
function withServers(entries: StructureEntry[]): StructureEntry[] {
  const servers = new Map(entries.flatMap(({ type, name, id }) => (type === 'SERVER' ? [[name, id] as const] : [])))
  return entries.map((entry) => {
    const server = entry.type === 'USER MAPPING' ? servers.get(/ SERVER ([\s\S]*)$/.exec(entry.name)?.[1] ?? '') : undefined
    return server === undefined || entry.needs.includes(server) ? entry : { ...entry, needs: [...entry.needs, server] }
  })
}

const HEAP = 'heap'
const HAS_METHOD = new Set(['TABLE', 'MATERIALIZED VIEW'])
const HAS_TABLESPACE = new Set(['TABLE', 'MATERIALIZED VIEW', 'INDEX', 'CONSTRAINT'])

/** Settings behind the last statement of an entry are for the one that follows. */
function splitTrailing(text: string): [string, string] {
  const at = /(?:\n+SET [^\n]*;)+\s*$/.exec(text)?.index
  return at === undefined || text.slice(0, at).trim() === '' ? [text, ''] : [text.slice(0, at), text.slice(at)]
}

function settingIn(text: string, name: 'tablespace' | 'table_access_method'): string | undefined {
  const setting = new RegExp(`^SET default_${name} = ('(?:[^']|'')*'|[^;\\n]+);$`, 'gm')
  const value = [...text.matchAll(setting)].at(-1)?.[1]
  if (value === undefined) return undefined
  return value.startsWith("'") || value.startsWith('"') ? value.slice(1, -1) : value
}

function entryOf(match: RegExpMatchArray, text: string): StructureEntry {
  const [, id, catalog, oid, needs, name, type, schema, owner] = match
  const body = text
    .replace(/\n--\n-- PostgreSQL database dump complete[\s\S]*$/, '')
    .replace(/^(?:-- Completed on [^\n]*\n|SET default_(?:tablespace|table_access_method|with_oids) = [^\n]*;\n|\n)+/gm, '\n')
    .trim()
  const ownerSql = OWNER.exec(`\n${body}`)?.[1] ?? null
  return {
    id: Number(id),
    catalog: Number(catalog),
    oid: Number(oid),
    needs: (needs ?? '').split(' ').filter(Boolean).map(Number),
    name: name!,
    type: type!,
    schema: schema === '-' ? null : schema!,
    owner: owner === '-' || owner === '' ? null : owner!,
    of: null,
    refers: null,
    sql: ownerSql ? body.slice(0, body.length - ownerSql.length).trim() : body,
    ownerSql,
  }
}

/** Catalogs of PostgreSQL that entries refer to (their fixed object ids). */
export const CATALOG = { relation: 1259, type: 1247, function: 1255, schema: 2615, constraint: 2606 } as const

/** Entries that are made before rows are loaded; all others come after. */
const BEFORE_ROWS = new Set([
  'SCHEMA',
  'EXTENSION',
  'TYPE',
  'DOMAIN',
  'SHELL TYPE',
  'FUNCTION',
  'PROCEDURE',
  'AGGREGATE',
  'OPERATOR',
  'OPERATOR CLASS',
  'OPERATOR FAMILY',
  'COLLATION',
  'CONVERSION',
  'CAST',
  'TRANSFORM',
  'ACCESS METHOD',
  'TEXT SEARCH PARSER',
  'TEXT SEARCH DICTIONARY',
  'TEXT SEARCH TEMPLATE',
  'TEXT SEARCH CONFIGURATION',
  'FOREIGN DATA WRAPPER',
  'SERVER',
  'USER MAPPING',
  'FOREIGN TABLE',
  'TABLE',
  'TABLE ATTACH',
  'SEQUENCE',
  'SEQUENCE OWNED BY',
  'DEFAULT',
  'VIEW',
  'MATERIALIZED VIEW',
  'PROCEDURAL LANGUAGE',
])

export function isBeforeRows(entry: StructureEntry): boolean {
  return BEFORE_ROWS.has(entry.type)
}

/** Entries without which the rest still stands: a failure leaves them out, with its reason in the tally. */
const OPTIONAL = new Set(['ACL', 'COMMENT', 'SECURITY LABEL', 'POLICY', 'PUBLICATION TABLE', 'PUBLICATION TABLES IN SCHEMA'])

export function isOptional(entry: StructureEntry): boolean {
  return OPTIONAL.has(entry.type)
}

/** Entries that are never things of their own: they belong to a table, sequence, view or other thing. */
const PARTS = new Set([
  'DEFAULT',
  'CONSTRAINT',
  'CHECK CONSTRAINT',
  'FK CONSTRAINT',
  'INDEX',
  'TRIGGER',
  'POLICY',
  'ROW SECURITY',
  'RULE',
  'STATISTICS',
  'ACL',
  'COMMENT',
  'SEQUENCE OWNED BY',
  'SECURITY LABEL',
  'PUBLICATION TABLE',
  'PUBLICATION TABLES IN SCHEMA',
])

/** What can be attached, and to what. */
const ENDS = new Set(['TABLE', 'FOREIGN TABLE'])

/** Members of a publication belong to it, not to the table or schema that they name. */
export const isOfPublication = (entry: StructureEntry) => entry.type.startsWith('PUBLICATION TABLE')

/**
 * The entries with the given ids and all that belongs to them: defaults, constraints, indexes, triggers,
 * policies, rights, comments. Foreign keys are taken from both ends, attachments when both ends are there.
 * `present` are entries that stand at the target already and can be attached to. Returned in the order of the
 * dump, in which an entry comes after what it needs.
 */
export function withParts(entries: StructureEntry[], roots: Iterable<number>, present: Set<number> = new Set()): StructureEntry[] {
  const taken = new Set(roots)
  const byId = new Map(entries.map((entry) => [entry.id, entry]))
  const byOid = new Map(entries.filter((entry) => entry.catalog === CATALOG.relation).map((entry) => [entry.oid, entry.id]))
  const holds = (oid: number | null) => oid !== null && taken.has(byOid.get(oid) ?? -1)
  const ownerOf = (entry: StructureEntry): boolean => {
    if (isOfPublication(entry)) return entry.needs.some((id) => taken.has(id) && byId.get(id)?.type === 'PUBLICATION')
    if (entry.of !== null) return holds(entry.of)
    return entry.needs.some((id) => taken.has(id) || (PARTS.has(byId.get(id)?.type ?? '') && ownerOf(byId.get(id)!)))
  }
  for (const entry of entries) {
    if (taken.has(entry.id)) continue
    if (entry.type === 'TABLE ATTACH' || entry.type === 'INDEX ATTACH') {
      const ends = entry.needs.filter((id) => ENDS.has(byId.get(id)?.type ?? ''))
      if (ends.some((id) => taken.has(id)) && ends.every((id) => taken.has(id) || present.has(id))) taken.add(entry.id)
    } else if (entry.type === 'FK CONSTRAINT') {
      if (holds(entry.of) || holds(entry.refers)) taken.add(entry.id)
    } else if (PARTS.has(entry.type) && ownerOf(entry)) {
      taken.add(entry.id)
    }
  }
  return entries.filter((entry) => taken.has(entry.id))
}

/**
 * The thing that each entry belongs to: itself, or for a part the table, view, function… whose part it is. A
 * sequence that a column owns belongs to the column's table.
 */
export function rootsOf(entries: StructureEntry[], sequences: SequenceState[]): Map<number, number> {
  const relations = entries.filter((entry) => entry.catalog === CATALOG.relation)
  const byOid = new Map(relations.map((entry) => [entry.oid, entry.id]))
  const tables = new Map(relations.filter(isTableEntry).map((entry) => [thingKey(entry.schema ?? '', entry.name), entry.id]))
  const owners = new Map(sequences.flatMap(({ schema, name, ownedBy }) => (ownedBy ? [[thingKey(schema, name), ownedBy] as const] : [])))
  const ownerOf = (entry: StructureEntry) => {
    const owner = entry.type === 'SEQUENCE' ? owners.get(thingKey(entry.schema ?? '', entry.name)) : undefined
    return owner && tables.get(thingKey(...owner))
  }
  const types = new Map(entries.map(({ id, type }) => [id, type]))
  const roots = new Map<number, number>()
  for (const entry of entries) {
    if (isOfPublication(entry)) {
      roots.set(entry.id, entry.needs.find((id) => types.get(id) === 'PUBLICATION') ?? entry.id)
      continue
    }
    const relation = entry.of === null ? undefined : byOid.get(entry.of)
    const part = relation ?? ownerOf(entry) ?? (PARTS.has(entry.type) ? entry.needs.find((id) => roots.has(id)) : undefined)
    roots.set(entry.id, part === undefined || part === entry.id ? entry.id : (roots.get(part) ?? part))
  }
  return roots
}

/** Whether it makes a table, and is not one of the parts that carry the table's object id too. */
export const isTableEntry = (entry: StructureEntry) => entry.type === 'TABLE' && entry.catalog === CATALOG.relation

/** Tables to which something can be attached, by the ids of their entries. */
export const tableIds = (entries: StructureEntry[]): Set<number> => new Set(entries.filter(isTableEntry).map(({ id }) => id))

/** An entry in words, as in `function twice(integer)`. */
export const entryWords = ({ type, name }: StructureEntry): string => `${type.toLowerCase()} ${name}`

/** What each thing needs other things for, by the ids of both; entries that do not count are left out. */
export function needsByRoot(
  entries: StructureEntry[],
  roots: Map<number, number>,
  counts: (entry: StructureEntry) => boolean,
): Map<number, Set<number>> {
  const needs = new Map<number, Set<number>>()
  for (const entry of entries.filter(counts)) {
    const root = roots.get(entry.id)!
    const needed = needs.get(root) ?? new Set<number>()
    for (const id of entry.needs) needed.add(roots.get(id) ?? id)
    needed.delete(root)
    needs.set(root, needed)
  }
  return needs
}
