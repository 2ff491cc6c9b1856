import type { Column, Part, TableStructure } from '../content/manifest'
import type { Renaming } from '../restore/sql'
import { plainIdentifier, rename, thingKey, tokensOf } from '../restore/sql'

/** One line of a comparison of structures. */
export interface StructureLine {
  what: string
  name: string
  before: string | null
  now: string | null
  mark: 'same' | 'changed' | 'gone' | 'new'
}

export function columnInWords(column: Column): string {
  const parts = [column.type]
  if (column.collation) parts.push(`collate ${column.collation}`)
  if (!column.nullable) parts.push('not null')
  if (column.identity) parts.push(`generated ${column.identity} as identity`)
  else if (column.generated) parts.push(`generated always as (${column.default}) stored`)
  else if (column.default !== null) parts.push(`default ${column.default}`)
  return parts.join(' ')
}

const PARTS = [
  ['constraint', 'constraints'],
  ['index', 'indexes'],
  ['trigger', 'triggers'],
  ['policy', 'policies'],
  ['rule', 'rules'],
  ['statistics', 'statistics'],
] as const

/** Every column, part and property of two structures side by side; either may be missing. */
export function compareStructures(before: TableStructure | null, now: TableStructure | null): StructureLine[] {
  const columns = (structure: TableStructure | null) =>
    new Map((structure?.columns ?? []).map((column) => [column.name, columnInWords(column)]))
  const lines = pair('column', columns(before), columns(now))
  for (const [what, field] of PARTS) {
    const parts = (structure: TableStructure | null) =>
      new Map((structure?.[field] ?? []).map((part: Part) => [part.name, part.definition]))
    lines.push(...pair(what, parts(before), parts(now)))
  }
  lines.push(...pair('property', properties(before), properties(now)), ...orderOfColumns(before, now))
  return lines
}

/** The same columns in another order, as inheritance makes it where a table is made again. */
function orderOfColumns(earlier: TableStructure | null, now: TableStructure | null): StructureLine[] {
  const names = (structure: TableStructure | null) => (structure?.columns ?? []).map(({ name }) => name)
  const [a, b] = [names(earlier), names(now)]
  if (a.length !== b.length || a.join() === b.join() || a.some((name) => !b.includes(name))) return []
  return [{ what: 'property', name: 'order of columns', before: a.join(', '), now: b.join(', '), mark: 'changed' }]
}

function properties(structure: TableStructure | null): Map<string, string> {
  if (!structure) return new Map()
  const all: [string, string | null][] = [
    ['owner', structure.owner],
    ['grants', structure.grants.join('\n') || null],
    ['comment', structure.comment],
    ['access method', structure.accessMethod ?? null],
    ['persistence', structure.persistence === 'permanent' ? null : structure.persistence],
    ['row security', structure.rowSecurity === 'off' ? null : structure.rowSecurity],
    ['replica identity', structure.replicaIdentity === 'd' ? null : structure.replicaIdentity],
    ['partitioned by', structure.partitionKey],
    ['partition of', structure.partitionOf ? `${structure.partitionOf} ${structure.partitionBound}` : null],
    ['inherits', structure.inherits?.join(', ') || null],
    ['options', structure.options.join(', ') || null],
    ...structure.columns.map((column): [string, string | null] => [`comment on ${column.name}`, column.comment]),
  ]
  return new Map(all.filter((entry): entry is [string, string] => entry[1] !== null))
}

function pair(what: string, before: Map<string, string>, now: Map<string, string>): StructureLine[] {
  const names = [...before.keys(), ...[...now.keys()].filter((name) => !before.has(name))]
  return names.map((name) => {
    const [a, b] = [before.get(name) ?? null, now.get(name) ?? null]
    const mark = a === null ? 'new' : b === null ? 'gone' : a === b ? 'same' : 'changed'
    return { what, name, before: a, now: b, mark }
  })
}

/** What differs between two structures, in a few words each, as a receipt tells it. */
export function differencesOf(before: TableStructure, now: TableStructure): string[] {
  return compareStructures(before, now)
    .filter(({ mark }) => mark !== 'same')
    .map(
      ({ what, name, mark }) =>
        `${what === 'property' ? '' : `${what} `}${name} ${mark === 'changed' ? 'differs' : mark === 'gone' ? 'is missing' : 'is too many'}`,
    )
}

/** The structure as it is expected at the target when things got new names on the way. */
export function renameStructure(structure: TableStructure, renaming: Renaming, roles: Record<string, string> = {}): TableStructure {
  const sql = (text: string) => rename(text, renaming)
  const part = ({ name, definition }: Part): Part => ({ name: renaming.indexes.get(name) ?? name, definition: sql(definition) })
  const statistic = ({ name, definition }: Part): Part => {
    const target = [...renaming.things].find(([key]) => key.endsWith(`."${name}"`))?.[1]
    return { name: target?.name ?? name, definition: sql(definition) }
  }
  const placed = (name: string) => {
    const target = renaming.things.get(name)
    return target ? thingKey(target.schema, target.name) : name
  }
  const role = (name: string) => (Object.hasOwn(roles, name) ? roles[name]! : name)
  const policy = (definition: string) => withPolicyRoles(definition, (roles) => roles.map((name) => plainIdentifier(role(unquoted(name)))))
  const newParent = structure.partitionOf === null ? undefined : renaming.things.get(structure.partitionOf)
  return {
    ...structure,
    columns: structure.columns.map((column) => ({ ...column, default: column.default === null ? null : sql(column.default) })),
    constraints: structure.constraints.map(part).sort(byName),
    indexes: structure.indexes.map(part).sort(byName),
    triggers: structure.triggers.map((t) => ({ ...t, definition: sql(t.definition) })),
    policies: structure.policies.map((p) => ({ ...p, definition: policy(sql(p.definition)) })),
    rules: structure.rules.map((r) => ({ ...r, definition: sql(r.definition) })),
    statistics: structure.statistics.map(statistic).sort(byName),
    owner: role(structure.owner),
    grants: structure.grants.map((grant) => grant.replace(/^.*(?=: )/, role)).sort(),
    ...(structure.inherits ? { inherits: structure.inherits.map(placed) } : {}),
    partitionOf: newParent ? thingKey(newParent.schema, newParent.name) : structure.partitionOf,
  }
}

const byName = (a: Part, b: Part) => (a.name < b.name ? -1 : a.name > b.name ? 1 : 0)

/**
 * A structure as one text, for comparing two and for their digest. Identifiers lose the quotes that they do
 * not need, because a renamed definition has them and the server's own has not.
 */
export function structureText(structure: TableStructure): string {
  const parts = Object.fromEntries(PARTS.map(([, field]) => [field, structure[field].map((part) => normalisedPart(field, part))]))
  // What lies beneath a domain is said by the domain's own definition.
  const columns = structure.columns.map(({ base: _, ...column }) => ({
    ...column,
    default: column.default === null ? null : normalise(column.default),
  }))
  return JSON.stringify({ ...structure, ...parts, columns })
}

const ROLE = '(?:"(?:[^"]|"")*"|[^ ,"]+)'
const POLICY_ROLES = new RegExp(`(?<=^\\w+ . )${ROLE}(?:,${ROLE})*`)

/** The roles of a policy, which stand behind its kind and command, as identifiers. */
export const policyRoles = (definition: string): string[] => POLICY_ROLES.exec(definition)?.[0].match(new RegExp(ROLE, 'g')) ?? []

const withPolicyRoles = (definition: string, change: (roles: string[]) => string[]): string =>
  definition.replace(POLICY_ROLES, change(policyRoles(definition)).join(','))

const unquoted = (name: string) => (name.startsWith('"') ? name.slice(1, -1).replaceAll('""', '"') : name)

/** Roles of a policy have no order. */
export const policyText = (definition: string): string => withPolicyRoles(definition, (roles) => roles.sort())

const normalisedPart = (field: string, { name, definition }: Part): Part => ({
  name,
  definition: normalise(field === 'policies' ? policyText(definition) : definition),
})

const PLAIN = /"([a-z_][a-z0-9_]*)"/g
const PART = '(?:"(?:[^"]|"")+"|[a-z_][a-z0-9_]*)'
const NAME_IN_STRING = new RegExp(`^'(?:${PART}\\.)?${PART}'$`)

function normalise(sql: string): string {
  return tokensOf(sql)
    .map(({ kind, text }) => {
      if (kind === 'quoted') return text.replace(/^"([a-z_][a-z0-9_]*)"$/, '$1')
      // The name of a sequence in its default.
      return kind === 'string' && NAME_IN_STRING.test(text) ? text.replace(PLAIN, '$1') : text
    })
    .join('')
}
