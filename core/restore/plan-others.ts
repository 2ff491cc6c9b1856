import type { DatabaseProperties, OtherThing } from '../content/manifest'
import { lastName, pathOf } from '../things/thing'
import { plural } from '../time/words'
import type { Mend } from './mends'
import { besideName, fitName } from './naming'
import { otherDifference, partsByRoot, type OtherDifference } from './other-mends'
import { isWholePicked, missingRoles, pickerOf, timeOf, type Operation, type PlanInput } from './plan'
import { blank, leave } from './plan-tables'
import { thingKey } from './sql'
import type { StructureEntry } from './structure'
import { definitionKey, stands } from './target'
import { typeMends } from './type-mends'
import type { Collision } from './wish'

/** Kinds that hold others, and that are never dropped for it. */
const CONTAINERS = new Set(['schema', 'extension'])
/** Kinds that can be made under another name, because every statement names them in full. */
const RENAMEABLE = new Set(['view', 'materialized-view', 'function', 'sequence', 'type'])
/** Kinds that can be dropped and made again without what is in tables. */
const REPLACEABLE = new Set([
  'view',
  'materialized-view',
  'foreign-table',
  'function',
  'sequence',
  'publication',
  'event-trigger',
  'default-privileges',
  'conversion',
  'cast',
  'transform',
  'operator',
  'operator-class',
  'operator-family',
  'collation',
  'text-search-parser',
  'text-search-dictionary',
  'text-search-template',
  'text-search-configuration',
  'language',
  'foreign-data-wrapper',
  'foreign-server',
  'user-mapping',
  'rights',
  'comment',
  'security-label',
])

/** What becomes of a thing without rows. */
export function planOther(other: OtherThing, input: PlanInput, along: string | null): Operation {
  const { wish, target, manifest } = input
  const entry = manifest.entries.find((candidate) => candidate.id === other.entry)!
  const [schema, name] = [entry.schema ?? '', entry.name]
  const when = timeOf(other.kind, entry, manifest)
  const base: Operation = { ...blank(other.path, other.kind), target: { schema, name }, along, entries: [entry.id], when }
  if (wish.what === 'rows') return leave(base, 'Only rows are restored.', true)
  if (wish.into.mode === 'beside' && along === null) return placeBeside(base, other, entry, input)
  if (!stands(target, entry)) return { ...base, verb: 'make', how: 'create' }
  const position = other.kind === 'sequence' ? positionNote(entry, input) : null
  const { definition, mends } = withType(other.kind, entry, differenceOf(entry, input), input)
  const same = definition.length === 0 && mends.length === 0 && position === null
  if (definition.length === 0 && position === null && mends.length > 0) return mendOther(base, mends, input)
  const choices = choicesFor(other.kind, same)
  const decision = wish.each[other.path] ?? (same ? 'skip' : wish.collide)
  if (same && decision !== 'replace')
    return { ...leave(base, 'It is there, the same as then.', true), choices: other.kind === 'sequence' ? choices : [] }
  if (CONTAINERS.has(other.kind)) return leave(base, 'It is there, made otherwise than then, and stays as it is now.')
  if (decision === 'rename' && choices.includes('rename'))
    return { ...renamed(base, entry, schema, besideName(baseName(name), 'then', input.at, isTaken(schema, input))), choices }
  if (decision === 'replace' && choices.includes('replace')) {
    const replaced = replaceOther(base, other, input, position)
    return { ...replaced, choices, mends: STANDS.has(other.kind) ? mends : [] }
  }
  return { ...leave(base, 'It is there with another definition, and stays as it is now.'), choices }
}

/** Kinds that are made equal in place, so that what uses them stays; owner, rights and comments stay too, unless they are made equal. */
const STANDS = new Set(['function', 'sequence'])

/** How a thing that stands is not as it was then. One of which no dump of the target tells is taken to differ. */
function differenceOf(entry: StructureEntry, { manifest, target, wish }: PlanInput): OtherDifference {
  const before = partsByRoot(manifest.entries, manifest.sequences).get(entry.id) ?? [entry]
  const now = target.definitions.get(definitionKey(entry))
  if (now) return otherDifference(before, now, wish.roles)
  // What every database has is in a dump only as far as somebody changed it.
  if (entry.type !== 'SCHEMA') return { definition: ['definition'], mends: [] }
  return otherDifference(before, [{ ...entry, owner: null }], wish.roles)
}

/** What is different in the definition of a type is made equal where the server can. */
function withType(kind: string, entry: StructureEntry, difference: OtherDifference, { target }: PlanInput): OtherDifference {
  if (kind !== 'type' || difference.definition.join() !== 'definition') return difference
  const now = target.definitions.get(definitionKey(entry))
  const mends = now ? typeMends(entry, now[0]!) : null
  return mends === null || mends.length === 0 ? difference : { definition: [], mends: [...mends, ...difference.mends] }
}

/** What differs is made equal, and nothing else is touched. */
function mendOther(base: Operation, mends: Mend[], { wish }: PlanInput): Operation {
  const words = mends.map((mend) => mend.words).join(', ')
  const choices: Collision[] = ['replace', 'skip']
  if ((wish.each[base.path] ?? wish.collide) !== 'replace')
    return { ...leave(base, `It stays as it is now; these differ: ${words}.`), choices }
  return { ...base, verb: 'replace', how: 'refill', choices, mends, notes: [`Made equal: ${words}.`] }
}

function choicesFor(kind: string, same: boolean): Collision[] {
  const choices: Collision[] = REPLACEABLE.has(kind) ? ['replace'] : []
  if (RENAMEABLE.has(kind) && !same) choices.push('rename')
  return choices.length > 0 ? [...choices, 'skip'] : []
}

/** From where to where a sequence goes; null where it stands as then. */
function positionNote(entry: StructureEntry, { manifest, target }: PlanInput): string | null {
  const earlier = manifest.sequences.find(({ schema, name }) => schema === entry.schema && name === entry.name)
  const now = target.sequences.get(thingKey(entry.schema ?? '', entry.name))
  if (!earlier || !now || (earlier.last === now.last && earlier.called === now.called)) return null
  const words = ({ last, called }: { last: string; called: boolean }) => (called ? last : `just before ${last}`)
  return `It stands at ${words(now)} now, and goes back to ${words(earlier)}.`
}

function replaceOther(base: Operation, other: OtherThing, { target }: PlanInput, position: string | null): Operation {
  const rebuilds = (target.dependents.get(thingKey(base.target.schema, base.target.name)) ?? []).filter(({ kind }) => kind !== 'table')
  const note =
    other.kind === 'sequence'
      ? (position ?? 'Set back to where it stood then.')
      : other.kind === 'function'
        ? 'Its definition of then takes the place of the one of now; what uses it stays.'
        : other.kind === 'rights'
          ? 'Given and taken as they were then.'
          : 'Dropped and made again as it was then, in one transaction.'
  return { ...base, verb: 'replace', how: 'rebuild', notes: [note], rebuilds: other.kind === 'function' ? [] : rebuilds }
}

/** The name of a function without its arguments. */
export const baseName = (name: string) => name.replace(/\(.*$/s, '')

const isTaken =
  (schema: string, { target }: PlanInput) =>
  (name: string) =>
    target.relations.has(thingKey(schema, name)) || target.others.has(thingKey(schema, name))

function renamed(base: Operation, entry: StructureEntry, schema: string, name: string): Operation {
  const args = entry.name.slice(baseName(entry.name).length)
  return { ...base, verb: 'make', how: 'create', renamed: true, target: { schema, name: fitName(name) + args } }
}

function placeBeside(base: Operation, other: OtherThing, entry: StructureEntry, input: PlanInput): Operation {
  const { into } = input.wish
  if (into.mode !== 'beside') return base
  if (!RENAMEABLE.has(other.kind)) {
    return leave(
      base,
      `A ${other.kind.replaceAll('-', ' ')} has one place only, so it is not made beside the original.`,
      other.kind === 'schema',
    )
  }
  const schema = into.schema ?? entry.schema ?? ''
  const old = baseName(entry.name)
  const given = into.names[other.path] ?? (into.prefix || into.suffix ? into.prefix + old + into.suffix : null)
  const name = given ?? (schema === entry.schema ? besideName(old, 'then', input.at, isTaken(schema, input)) : old)
  return renamed(base, entry, schema, name)
}

/** Roles that are to be made, each an operation. */
export function planRoles(input: PlanInput, operations: Operation[]): Operation[] {
  const { wish, manifest, target, into } = input
  if (!wish.makeRoles || wish.what === 'rows') return []
  const all = [...operations, ...planDatabase(input)]
  const properties = manifest.properties
  const ofDatabase =
    isWholePicked(input) && properties && !target.exists ? [properties.owner, ...properties.grants.flatMap(({ role }) => role ?? [])] : []
  const missing = new Set([
    ...missingRoles(all, manifest, target, wish),
    ...ofDatabase.filter((role) => !target.roles.has(wish.roles[role] ?? role)),
  ])
  return [...missing].sort().map((role) => ({
    ...blank(pathOf(into.source, `role ${role}`), 'role'),
    how: 'create',
    target: { schema: '', name: role },
    along: 'what comes back names it',
    notes: ['Made without a password, so that nobody can sign in with it until one is set.'],
  }))
}

/** The schema that copies go into, where it is not there yet. */
export function planSchema({ wish, target, source, manifest }: PlanInput, tables: Operation[]): Operation[] {
  const schema = wish.into.mode === 'beside' ? wish.into.schema : null
  if (schema === null || target.schemas.has(schema) || tables.length === 0) return []
  return [
    {
      ...blank(pathOf(source, manifest.name, schema), 'schema'),
      how: 'create',
      target: { schema: '', name: schema },
      along: 'copies go into it',
    },
  ]
}

/**
 * Rights that somebody gave since on what no dump makes, such as a function of an extension or the schema `public`:
 * where the point has none, they are what they were when it was made.
 */
export function planRightsGiven(input: PlanInput): Operation[] {
  const { manifest, target, wish, source } = input
  if (wish.into.mode !== 'original' || wish.what === 'rows') return []
  const known = new Set(manifest.entries.map(definitionKey))
  const picked = pickerOf(input)
  return [...target.definitions].flatMap(([key, [entry]]) => {
    if (entry!.type !== 'ACL' || known.has(key)) return []
    const path = pathOf(source, manifest.name, ...(entry!.schema === null ? [] : [entry!.schema]), `rights of ${entry!.name}`)
    if (!picked(path)) return []
    const base: Operation = { ...blank(path, 'rights'), when: 'last', target: { schema: entry!.schema ?? '', name: entry!.name } }
    const resets = { schema: entry!.schema, name: entry!.name }
    return [mendOther(base, [{ words: 'rights, of which the point has none', before: [], after: [], resets }], input)]
  })
}

/** Owner, rights and settings of a database that is picked whole and made anew. */
export function planDatabase(input: PlanInput): Operation[] {
  const { manifest, target, into, source, wish } = input
  if (!manifest.properties || !isWholePicked(input) || wish.what === 'rows' || wish.into.mode === 'scratch') return []
  const base: Operation = {
    ...blank(pathOf(source, manifest.name), 'database'),
    how: 'create',
    when: 'last',
    target: { schema: '', name: into.database },
    notes: ['Its owner, rights, comment and settings.'],
  }
  if (!target.exists || !target.properties) return [base]
  const differences = propertyDifferences(manifest.properties, target.properties, wish.roles)
  const path = base.path
  if (differences.length === 0) return [leave(base, 'Its owner, rights, comment and settings are the same then and now.', true)]
  const choices: Collision[] = ['replace', 'skip']
  // Another database has properties of its own, which are changed only where that is asked for.
  const decision = wish.each[path] ?? (wish.into.mode === 'original' ? wish.collide : 'skip')
  const words = differences.join(', ')
  if (decision !== 'replace') return [{ ...leave(base, `They stay as they are now; these differ: ${words}.`), choices }]
  return [{ ...base, verb: 'replace', how: 'refill', choices, notes: [`Made equal: ${words}.`] }]
}

/** What differs of a database itself, in words. */
function propertyDifferences(before: DatabaseProperties, now: DatabaseProperties, roles: Record<string, string>): string[] {
  const role = (name: string | null) => (name === null ? null : (roles[name] ?? name))
  const grants = ({ grants, owner }: DatabaseProperties) =>
    grants
      .map((grant) => JSON.stringify([role(grant.role) === role(owner) ? 'owner' : role(grant.role), grant.privilege, grant.grantable]))
      .sort()
  const settings = ({ settings }: DatabaseProperties) =>
    settings.map((setting) => JSON.stringify([role(setting.role), setting.setting])).sort()
  return [
    ...(role(before.owner) === now.owner ? [] : [`owner back to ${role(before.owner)}`]),
    ...(before.comment === now.comment ? [] : ['comment']),
    ...(before.connectionLimit === now.connectionLimit ? [] : ['connection limit']),
    ...(settings(before).join() === settings(now).join() ? [] : ['settings']),
    ...(grants(before).join() === grants(now).join() ? [] : ['rights']),
  ]
}

/** Large objects come and go together. */
export function planLargeObjects(input: PlanInput): Operation[] {
  const { manifest, target, wish } = input
  const large = manifest.largeObjects
  if (!large || large.objects.length === 0 || !pickerOf(input)(large.path)) return []
  const base: Operation = {
    ...blank(large.path, 'large-objects'),
    target: { schema: '', name: lastName(large.path) },
    rows: large.rows,
    bytes: large.bytes,
  }
  if (wish.what === 'structure') return [leave(base, 'Only structure is restored.', true)]
  if (wish.into.mode === 'beside') return [leave(base, 'Large objects have one place only; they are not made beside the original.')]
  const there = large.objects.filter(({ oid }) => target.largeObjects.has(oid)).length
  const count = plural(large.objects.length, 'large object')
  if (there === 0) return [{ ...base, how: 'create', notes: [`${count} put back under their numbers.`] }]
  const decision = wish.each[large.path] ?? wish.collide
  const choices: Collision[] = ['replace', 'merge', 'skip']
  // They have numbers and no names, so there is nothing to rename.
  if (decision === 'skip' || decision === 'rename') return [{ ...leave(base, 'They stay as they are.'), choices }]
  if (decision === 'merge')
    return [
      {
        ...base,
        verb: 'merge',
        how: 'merge',
        choices,
        notes: [`${plural(large.objects.length - there, 'large object')} that are missing are added. They stay when this is taken back.`],
      },
    ]
  return [
    {
      ...base,
      verb: 'replace',
      how: 'refill',
      choices,
      overwrites: there,
      notes: [`${count} put back; ${there} of them are overwritten.`],
    },
  ]
}
