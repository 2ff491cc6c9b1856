import type { TableManifest } from '../content/manifest'
import { compareStructures } from '../compare/structure'
import type { Operation, PlanInput } from './plan'
import { thingKey } from './sql'
import { existsAt, type TargetTable } from './target'

/** Something that keeps the whole restore from beginning, known before anything is touched. */
export interface Blocker {
  code: string
  path: string
  what: string
  next: string
}

export function blockersOf(operations: Operation[], input: PlanInput): Blocker[] {
  const tables = new Map(input.manifest.tables.map((table) => [table.path, table]))
  const rebuilt = new Set(operations.filter(({ how }) => how === 'rebuild').map(({ target }) => thingKey(target.schema, target.name)))
  return [
    ...ofDatabase(operations, input),
    ...operations.flatMap((operation) => {
      if (operation.verb === 'leave') return []
      const table = tables.get(operation.path)
      return [
        ...ofPlace(operation, input, operations),
        ...(table ? ofTable(operation, table, input, rebuilt) : []),
        ...ofKind(operation, input),
      ]
    }),
  ]
}

function ofDatabase(operations: Operation[], { target, into }: PlanInput): Blocker[] {
  if (!target.exists && !target.may.createDatabase) {
    return [
      {
        code: 'may_not_create_database',
        path: '',
        what: `The connecting role may not make the database ${into.database} on ${into.source}.`,
        next: 'Let it (alter role … createdb), or make the database and bring things back into it.',
      },
    ]
  }
  const bytes = operations.reduce((sum, operation) => sum + (operation.verb === 'leave' ? 0 : operation.bytes), 0)
  // Rows take more room in a table than in text, and indexes come on top.
  const needed = bytes * 2
  if (target.free === null || target.free > needed) return []
  return [
    {
      code: 'no_space',
      path: '',
      what: `It needs about ${megabytes(needed)} where ${into.source} keeps its data, and ${megabytes(target.free)} are free.`,
      next: 'Make space there, or restore less.',
    },
  ]
}

const megabytes = (bytes: number) => `${Math.round(bytes / 1e6)} MB`

/** Names and schemas that are in the way or missing. */
function ofPlace(operation: Operation, { target, into }: PlanInput, operations: Operation[]): Blocker[] {
  const { schema, name } = operation.target
  const blockers: Blocker[] = []
  const add = (code: string, what: string, next: string) => blockers.push({ code, path: operation.path, what, next })
  if (operation.how === 'create' && operation.renamed && target.others.has(thingKey(schema, name)))
    add('name_taken', `${schema}.${name} exists already.`, 'Choose another name.')
  else if (operation.how === 'create' && operation.kind === 'table' && target.relations.has(thingKey(schema, name)))
    add('name_taken', `${schema}.${name} exists already.`, 'Choose another name.')
  const twin = operations.find(
    (other) =>
      other !== operation &&
      other.verb === 'make' &&
      other.kind === operation.kind &&
      other.renamed &&
      operation.renamed &&
      thingKey(other.target.schema, other.target.name) === thingKey(schema, name),
  )
  if (twin) add('name_twice', `${schema}.${name} would be made twice.`, 'Give them different names.')
  if (schema === '' || operation.how !== 'create' || !target.exists) return blockers
  const isMade = operations.some((other) => other.kind === 'schema' && other.verb === 'make' && other.target.name === schema)
  if (!target.schemas.has(schema) && !isMade) {
    if (!target.may.create)
      add(
        'may_not_create_schema',
        `There is no schema ${schema} in ${into.database}, and the connecting role may not make one.`,
        'Make it first, or choose one that exists.',
      )
  } else if (!isMade && !target.creatable.has(schema)) {
    add(
      'may_not_create',
      `The connecting role may not make anything in the schema ${schema} of ${into.database}.`,
      `Let it: grant create on schema ${schema} to it. Or choose another schema.`,
    )
  }
  return blockers
}

function ofTable(operation: Operation, table: TableManifest, { target, wish }: PlanInput, rebuilt: Set<string>): Blocker[] {
  const { schema, name } = operation.target
  const now = target.tables.get(thingKey(schema, name))
  const blockers: Blocker[] = []
  const add = (code: string, what: string, next: string) => blockers.push({ code, path: operation.path, what, next })
  const intoStanding = operation.how === 'merge' || operation.how === 'rows' || (wish.what === 'rows' && operation.how === 'refill')
  if (intoStanding && !now)
    add('table_missing', `${schema}.${name} is not there, and only rows are to be restored.`, 'Restore its structure too.')
  if ((operation.verb === 'replace' || operation.verb === 'merge') && now && !now.mayReplace) {
    add(
      'not_owner',
      `The connecting role does not own ${schema}.${name}, so it may not replace it.`,
      'Connect as its owner, or bring it back beside the original.',
    )
  }
  if (intoStanding && now) blockers.push(...ofColumns(operation, table, now))
  if (operation.how !== 'rebuild' || !now) return blockers
  const inTheWay = now.dependents.filter((dependent) => dependent.kind === 'table' && !rebuilt.has(dependent.key))
  if (inTheWay.length > 0) {
    const words = inTheWay.slice(0, 3).map((dependent) => dependent.words)
    add(
      'others_depend',
      `${schema}.${name} has another structure now, and the ${inTheWay.length === 1 ? 'table' : 'tables'} ${words.join(', ')} ${inTheWay.length === 1 ? 'depends' : 'depend'} on it.`,
      'Bring it back beside the original, or bring these back too. Nothing is dropped behind your back.',
    )
  }
  return blockers
}

/** Rows can only go into a table that has the same columns, and single rows only where there is a key. */
function ofColumns(operation: Operation, table: TableManifest, now: TargetTable): Blocker[] {
  const { schema, name } = operation.target
  const differing = compareStructures(table.structure, now.structure).filter(({ what, mark }) => what === 'column' && mark !== 'same')
  const unlike = differing.filter((line) => line.mark === 'gone' || typeIn(line.before) !== typeIn(line.now))
  const blockers: Blocker[] = []
  if (unlike.length > 0) {
    const first = unlike[0]!
    const what =
      first.mark === 'gone'
        ? `has no column ${first.name} now`
        : first.mark === 'new'
          ? `has the column ${first.name} now, which was not there then`
          : `has another type in ${first.name} now`
    const fatal = unlike.some(({ mark }) => mark !== 'new')
    if (fatal)
      blockers.push({
        code: 'other_structure',
        path: operation.path,
        what: `${schema}.${name} ${what}, so rows of then do not fit into it.`,
        next: 'Bring it back beside the original, or with its structure.',
      })
  }
  if (operation.how === 'refill') return blockers
  if (!table.key)
    blockers.push({
      code: 'no_key',
      path: operation.path,
      what: `${schema}.${name} has no key, so which rows are missing can’t be told.`,
      next: 'Replace it whole, or bring it back beside the original.',
    })
  else if (!now.key || table.key.some((column) => !now.key!.includes(column)) || now.key.length !== table.key.length) {
    blockers.push({
      code: 'other_key',
      path: operation.path,
      what: `The key of ${schema}.${name} was ${table.key.join(', ')} then, and is ${now.key?.join(', ') ?? 'none'} now.`,
      next: 'Replace it whole, or bring it back beside the original.',
    })
  }
  return blockers
}

/** The type at the beginning of a column in words. */
const typeIn = (words: string | null) => words?.replace(/ (?:collate|not null|generated|default) .*$| not null$/s, '')

function ofKind(operation: Operation, { target, into }: PlanInput): Blocker[] {
  const { kind, verb, path } = operation
  const { name } = operation.target
  if (kind === 'extension' && verb === 'make' && !target.available.has(name)) {
    return [
      {
        code: 'extension_missing',
        path,
        what: `The extension ${name} is not installed on the machine of ${into.source}, so it can’t be made there.`,
        next: `Install its package there, or do not bring ${name} and what needs it.`,
      },
    ]
  }
  if (kind === 'role' && !target.may.createRole) {
    return [
      {
        code: 'may_not_create_role',
        path,
        what: `The connecting role may not make the role ${name}.`,
        next: 'Let it (alter role … createrole), map the role to one that exists, or leave it out.',
      },
    ]
  }
  if ((kind === 'subscription' || kind === 'event-trigger') && verb !== 'leave' && !target.may.superuser) {
    return [
      {
        code: 'superuser_needed',
        path,
        what: `Only a superuser can make the ${kind.replace('-', ' ')} ${name}.`,
        next: 'Connect as one, or do not tick it.',
      },
    ]
  }
  if (kind === 'schema' && verb === 'make' && target.exists && !target.may.create && !existsAt(target, 'schema', '', name)) {
    return [
      {
        code: 'may_not_create_schema',
        path,
        what: `The connecting role may not make the schema ${name} in ${into.database}.`,
        next: `Let it: grant create on database ${into.database} to it.`,
      },
    ]
  }
  return []
}
