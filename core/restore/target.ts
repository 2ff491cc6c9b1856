import type { DatabaseProperties, SequenceState, TableStructure } from '../content/manifest'
import { kindOf } from './kinds'
import { thingKey } from './sql'
import type { StructureEntry } from './structure'

/** Something that needs a table or view to be as it is. */
export interface Dependent {
  kind: 'view' | 'materialized-view' | 'function' | 'foreign-table' | 'table'
  /** Catalog and object id at the target, to find its entry in a dump. */
  catalog: number
  oid: number
  /** `thingKey` of relations, the signature of functions. */
  key: string
  /** With its kind, as in `view sales.open_leg`. */
  words: string
}

export interface TargetTable {
  structure: TableStructure
  rows: number
  bytes: number
  key: string[] | null
  /** All that needs the table, directly or not; what must be dropped first comes first. */
  dependents: Dependent[]
  mayReplace: boolean
  /** Other tables with foreign keys to it, as `schema.name`. */
  referredBy: string[]
  /** Who holds a lock on it now that a restore would wait for. */
  heldBy: string[]
}

/** Something else that needs a type: another type, an operator, a cast. */
export interface Needer {
  /** Catalog and object id at the target, as in `1247/16384`. */
  key: string
  words: string
}

/** What has a type. */
export interface TypeUses {
  /** Tables that have columns of it, and what stands upon it directly or not. */
  dependents: Dependent[]
  others: Needer[]
}

/** What stands at the target now, as far as a plan has to know. */
export interface TargetState {
  exists: boolean
  tables: Map<string, TargetTable>
  /** Keys (`thingKey`) of views, sequences, types and functions. */
  others: Set<string>
  /** What needs a view, by `thingKey`. */
  dependents: Map<string, Dependent[]>
  /** Enums, domains and row types that the connecting role may drop, with what has them, by `thingKey`. */
  types: Map<string, TypeUses>
  /** Every relation name in use, indexes too. */
  relations: Set<string>
  schemas: Set<string>
  /** Schemas in which the connecting role may create. */
  creatable: Set<string>
  extensions: Set<string>
  /** Extensions that the server could install, and those of them for which no superuser is needed. */
  available: Set<string>
  trusted: Set<string>
  /** Roles of which the connecting one is a member, itself among them. */
  memberOf: Set<string>
  roles: Set<string>
  tablespaces: Set<string>
  /** Object ids of large objects. */
  largeObjects: Set<number>
  /** What the connecting role may do. */
  may: { create: boolean; createDatabase: boolean; createRole: boolean; superuser: boolean; readLargeObjects: boolean }
  /** Major version. */
  version: number
  /** Free bytes where the server's data lies, if that can be known. */
  free: number | null
  /** Where sequences stand, by `thingKey`. */
  sequences: Map<string, Pick<SequenceState, 'last' | 'called'>>
  /** What belongs to the database itself; null where there is none yet. */
  properties: DatabaseProperties | null
  /** Event triggers that would fire for what a restore does there; a superuser's restore keeps them from it. */
  eventTriggers: string[]
  /** What makes things as they are now: the entries of each, its own first, by the `definitionKey` of that. */
  definitions: Map<string, StructureEntry[]>
}

/** What is the same for all databases of a server. */
export type ServerState = Pick<TargetState, 'roles' | 'memberOf' | 'tablespaces' | 'available' | 'trusted' | 'may' | 'version' | 'free'>

/** A database that is not there yet on a server. */
export function emptyTarget(server: ServerState): TargetState {
  return {
    ...server,
    exists: false,
    tables: new Map(),
    others: new Set(),
    dependents: new Map(),
    types: new Map(),
    relations: new Set(),
    schemas: new Set(['public']),
    creatable: new Set(['public']),
    extensions: new Set(),
    largeObjects: new Set(),
    eventTriggers: [],
    sequences: new Map(),
    properties: null,
    definitions: new Map(),
  }
}

/** What an entry is told by among all of its database; operators and their classes may share a name. */
export const definitionKey = (entry: StructureEntry) => JSON.stringify([entry.type, entry.schema, entry.name, ...tellingApart(entry)])

function tellingApart({ type, owner, sql }: StructureEntry): (string | null)[] {
  if (type === 'DEFAULT ACL') return [owner]
  if (type === 'OPERATOR') return [...sql.matchAll(/^\s*((?:LEFT|RIGHT)ARG = .*?),?$/gm)].map(([, operand]) => operand!)
  return type === 'OPERATOR CLASS' || type === 'OPERATOR FAMILY' ? [/ USING (\S+?);?(?:\s|$)/.exec(sql)?.[1] ?? null] : []
}

export function existsAt(target: TargetState, kind: string, schema: string, name: string): boolean {
  if (kind === 'schema') return target.schemas.has(name)
  if (kind === 'extension') return target.extensions.has(name)
  return target.others.has(thingKey(schema, name)) || target.tables.has(thingKey(schema, name))
}

/** Whether the thing of an entry stands at the target, whatever its kind. */
export function stands(target: TargetState, entry: StructureEntry): boolean {
  return existsAt(target, kindOf(entry) ?? 'table', entry.schema ?? '', entry.name) || target.definitions.has(definitionKey(entry))
}
