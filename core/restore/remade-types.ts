import { plural } from '../time/words'
import type { Operation, PlanInput } from './plan'
import { thingKey } from './sql'
import { definitionKey, type Dependent, type Needer } from './target'

// An enum, a domain or a range that differs in what the server can't change while columns have it is dropped and made again with
// the tables that have it, and with the types and casts made of it, where all of these come back too: in one
// transaction, so that either all are as then or none.

// A range and a function that brings its values into one form need each other, so that neither can be dropped first.
const MADE_AGAIN = /^CREATE (DOMAIN|TYPE [\s\S]*? AS ENUM|TYPE (?![\s\S]*\bcanonical = )[\s\S]*? AS RANGE) /
/** Kinds that are made again along with a type that they need. */
const ALONG = new Set(['type', 'cast'])

/** Operations, with types that are made again among the others; which tables are because of which type, by `thingKey`. */
export interface Remade {
  others: Operation[]
  because: Map<string, string>
}

/** All that is dropped and made again with one type. */
interface Closure {
  operations: Set<Operation>
  tables: Map<string, Dependent>
  rebuilds: Map<string, Dependent>
  /** What needs it and does not come back, in words. */
  inTheWay: string[]
}

export function typesMadeAgain(tables: Operation[], others: Operation[], input: PlanInput): Remade {
  if (input.wish.what !== 'both') return { others, because: new Map() }
  const finder = new Finder(tables, others, input)
  const because = new Map<string, string>()
  const instead = new Map<Operation, Operation>()
  for (const operation of others.filter((due) => finder.isDue(due))) {
    const choices: Operation['choices'] = ['replace', 'skip']
    const closure = finder.isWished(operation) ? finder.closureOf(operation) : null
    if (closure === null) instead.set(operation, { ...operation, choices })
    else if (closure.inTheWay.length > 0) instead.set(operation, { ...operation, choices, notes: [stays(closure.inTheWay)] })
    else {
      for (const key of closure.tables.keys()) because.set(key, operation.target.name)
      for (const remade of closure.operations) instead.set(remade, madeAgain(remade, operation, closure))
    }
  }
  return { others: others.map((operation) => instead.get(operation) ?? operation), because }
}

function madeAgain(operation: Operation, type: Operation, { tables, rebuilds }: Closure): Operation {
  const along = tables.size > 0 ? `, with ${plural(tables.size, 'table')} that ${tables.size === 1 ? 'has' : 'have'} it` : ''
  const note =
    operation === type
      ? `Dropped and made again as it was then${along}, in one transaction.`
      : `Dropped and made again, because ${type.target.name} is made again, and it needs that.`
  return {
    ...operation,
    verb: 'replace',
    how: 'rebuild',
    same: false,
    mends: [],
    choices: ['replace', 'skip'],
    notes: [note],
    rebuilds: operation === type ? [...rebuilds.values()] : [],
    // Without a table that has it, it is no part of a group.
    ...(tables.size > 0 ? { when: 'group' as const, withTables: [...tables.keys()] } : {}),
  }
}

function stays(inTheWay: string[]): string {
  const more = inTheWay.length > 3 ? ` and ${plural(inTheWay.length - 2, 'thing')} more` : ''
  const words = inTheWay.slice(0, more === '' ? 3 : 2).join(', ') + more
  const need = inTheWay.length === 1 ? 'needs' : 'need'
  return `It is there with another definition, and stays as it is now: ${words} ${need} it, and would have to come back with it.`
}

class Finder {
  /** Tables that are replaced, by `thingKey`. */
  private readonly replaced: Set<string>
  /** Operations by catalog and object id of what stands now. */
  private readonly standing = new Map<string, Operation>()

  constructor(
    tables: Operation[],
    others: Operation[],
    private readonly input: PlanInput,
  ) {
    const isReplaced = ({ verb, how }: Operation) => verb === 'replace' && (how === 'refill' || how === 'rebuild')
    this.replaced = new Set(tables.filter(isReplaced).map(({ target }) => thingKey(target.schema, target.name)))
    for (const operation of others.filter(({ kind }) => ALONG.has(kind))) {
      const now = this.now(operation)
      if (now) this.standing.set(`${now.catalog}/${now.oid}`, operation)
    }
  }

  private then(operation: Operation) {
    return this.input.manifest.entries.find(({ id }) => id === operation.entries[0])
  }

  private now(operation: Operation) {
    const before = this.then(operation)
    return before && this.input.target.definitions.get(definitionKey(before))?.[0]
  }

  /** Whether it is a type that differs, and that nothing less makes equal. */
  isDue(operation: Operation): boolean {
    if (operation.kind !== 'type' || operation.verb !== 'leave' || operation.same) return false
    const [before, now] = [this.then(operation), this.now(operation)]
    return (
      before !== undefined &&
      now !== undefined &&
      before.sql !== now.sql &&
      MADE_AGAIN.test(before.sql) &&
      this.usesOf(operation) !== undefined
    )
  }

  isWished({ path }: Operation): boolean {
    return (this.input.wish.each[path] ?? this.input.wish.collide) === 'replace'
  }

  private usesOf({ target: { schema, name } }: Operation) {
    return this.input.target.types.get(thingKey(schema, name))
  }

  closureOf(type: Operation): Closure {
    const closure: Closure = { operations: new Set([type]), tables: new Map(), rebuilds: new Map(), inTheWay: [] }
    // What is added meanwhile is gone through, too.
    for (const operation of closure.operations) {
      const uses = this.usesOf(operation)
      for (const dependent of uses?.dependents ?? []) this.takeDependent(dependent, closure)
      for (const needer of uses?.others ?? []) this.takeOther(needer, closure)
      if (operation.kind === 'type' && !uses) closure.inTheWay.push(`type ${operation.target.name}`)
    }
    // What is made again by itself drops nothing else.
    if (closure.tables.size === 0 && closure.operations.size > 1)
      closure.inTheWay.push(...[...closure.operations].slice(1).map(({ target }) => target.name))
    return closure
  }

  private takeDependent(dependent: Dependent, { tables, rebuilds, inTheWay }: Closure): void {
    const { kind, key, words } = dependent
    if (kind !== 'table') rebuilds.set(key, dependent)
    else if (this.replaced.has(key)) tables.set(key, dependent)
    else inTheWay.push(words)
  }

  private takeOther({ key, words }: Needer, { operations, inTheWay }: Closure): void {
    const along = this.standing.get(key)
    if (along && this.isWished(along)) operations.add(along)
    else inTheWay.push(words)
  }
}
