import type { OtherThing } from '../content/manifest'
import { pathOf } from '../things/thing'
import { rootsOf, type StructureEntry } from './structure'

/** Kinds of things without rows, by the type of their entry. */
const KINDS: Record<string, string> = {
  SCHEMA: 'schema',
  EXTENSION: 'extension',
  TYPE: 'type',
  DOMAIN: 'type',
  'SHELL TYPE': 'type',
  FUNCTION: 'function',
  PROCEDURE: 'function',
  AGGREGATE: 'function',
  SEQUENCE: 'sequence',
  VIEW: 'view',
  'MATERIALIZED VIEW': 'materialized-view',
  COLLATION: 'collation',
  CONVERSION: 'conversion',
  CAST: 'cast',
  TRANSFORM: 'transform',
  OPERATOR: 'operator',
  'OPERATOR CLASS': 'operator-class',
  'OPERATOR FAMILY': 'operator-family',
  'ACCESS METHOD': 'access-method',
  'TEXT SEARCH PARSER': 'text-search-parser',
  'TEXT SEARCH DICTIONARY': 'text-search-dictionary',
  'TEXT SEARCH TEMPLATE': 'text-search-template',
  'TEXT SEARCH CONFIGURATION': 'text-search-configuration',
  'PROCEDURAL LANGUAGE': 'language',
  'FOREIGN DATA WRAPPER': 'foreign-data-wrapper',
  SERVER: 'foreign-server',
  'USER MAPPING': 'user-mapping',
  'FOREIGN TABLE': 'foreign-table',
  PUBLICATION: 'publication',
  SUBSCRIPTION: 'subscription',
  'EVENT TRIGGER': 'event-trigger',
  'DEFAULT ACL': 'default-privileges',
}

export const kindOf = (entry: StructureEntry): string | undefined => KINDS[entry.type]

/** Rights and comments on what a dump does not make: the schema public, members of extensions, the server's own views. */
const APART: Record<string, string> = { ACL: 'rights', COMMENT: 'comment', 'SECURITY LABEL': 'security-label' }

/** Kinds that discovery finds; their names stand alone in a path. All others are told apart by their kind. */
const DISCOVERED = new Set(['schema', 'extension', 'type', 'function', 'sequence', 'view', 'materialized-view', 'foreign-table'])

/** Kinds whose presence at a target is known from its catalog, without a dump of its structure. */
export const isKnownByName = (kind: string) => DISCOVERED.has(kind)

/** Kinds that come when all else is there: they act on what comes after them. */
const LAST = new Set(['publication', 'subscription', 'event-trigger', 'default-privileges'])
export const comesLast = (kind: string) => LAST.has(kind)

/** Everything without rows in a structure, as things; `populated` are the paths of materialized views that hold rows. */
export function othersOf(entries: StructureEntry[], source: string, database: string, populated: Set<string>): OtherThing[] {
  const used = new Set<string>()
  const roots = rootsOf(entries, [])
  return entries.flatMap((entry) => {
    const kind = kindOf(entry) ?? (roots.get(entry.id) === entry.id ? APART[entry.type] : undefined)
    if (!kind) return []
    const path = freePath(pathOf(source, database, ...namesFor(entry, kind)), used)
    used.add(path)
    return [{ path, kind, entry: entry.id, ...(kind === 'materialized-view' ? { populated: populated.has(path) } : {}) }]
  })
}

function namesFor(entry: StructureEntry, kind: string): string[] {
  const schema = entry.schema === null ? [] : [entry.schema]
  if (DISCOVERED.has(kind)) return [...schema, entry.name]
  if (Object.values(APART).includes(kind)) return [...schema, `${kind.replaceAll('-', ' ')} of ${entry.name}`]
  if (kind === 'default-privileges') return [...schema, `${entry.name.toLowerCase()} of ${entry.owner}`]
  const named = entry.name.toLowerCase().startsWith(kind.replaceAll('-', ' '))
  return [...schema, named ? entry.name : `${entry.name} (${kind.replaceAll('-', ' ')})`]
}

function freePath(path: string, used: Set<string>): string {
  let free = path
  for (let n = 2; used.has(free); n++) free = `${path} ${n}`
  return free
}
