import { policyRoles } from '../compare/structure'
import type { Column, Part, TableManifest, TableStructure } from '../content/manifest'
import { identifierOf, quoteIdentifier, quoteLiteral, thingKey, tokensOf } from './sql'
import { CATALOG, isTableEntry, type StructureEntry } from './structure'

// Entries of a table whose structure is known as of a moment at which nobody read its definition: what the server's
// dump wrote of it before or after is made to say what it was then.

/** A table as a dump wrote it, with its entries and the structure that they make. */
export interface WrittenTable {
  table: TableManifest
  entries: StructureEntry[]
}

/** What the new entries stand among. */
export interface Surroundings {
  /** A number that no entry has yet. */
  nextId: () => number
  /** Entries of things that a table may need: schemas, types. */
  entries: StructureEntry[]
  /** The object id of a table by `thingKey`. */
  oidOf: (key: string) => number | null
}

const nameOf = ({ schema, name }: { schema: string; name: string }) => thingKey(schema, name)
export const isKey = ({ definition }: Part) => /^(PRIMARY KEY|UNIQUE|EXCLUDE)/.test(definition)
export const isForeignKey = ({ definition }: Part) => definition.startsWith('FOREIGN KEY')
export const isCheck = ({ definition }: Part) => definition.startsWith('CHECK')

/** Defaults that take numbers from a sequence stand apart, because the sequence may be owned by the column. */
const standsApart = ({ default: value, generated }: Column) => !generated && value !== null && /\bnextval\(/.test(value)

function columnSql(column: Column): string {
  const parts = [quoteIdentifier(column.name), column.type]
  if (column.collation) parts.push(`COLLATE ${column.collation}`)
  if (column.generated) parts.push(`GENERATED ALWAYS AS (${column.default}) STORED`)
  else if (column.default !== null && !standsApart(column)) parts.push(`DEFAULT ${column.default}`)
  if (!column.nullable) parts.push('NOT NULL')
  return parts.join(' ')
}

const WHOLE_IDENTITIES: Record<string, string> = { f: 'FULL', n: 'NOTHING' }

/** The statement that makes a table without its keys, indexes and all that comes after its rows. */
export function createTableSql(table: { schema: string; name: string; structure: TableStructure }): string {
  const { structure } = table
  const checks = structure.constraints.filter((part) => isCheck(part) && !/NOT VALID$/.test(part.definition))
  const lines = [
    ...structure.columns.map(columnSql),
    ...checks.map(({ name, definition }) => `CONSTRAINT ${quoteIdentifier(name)} ${definition}`),
  ]
  const inherits = structure.inherits?.length ? `\nINHERITS (${structure.inherits.join(', ')})` : ''
  const partition = structure.partitionKey ? `\nPARTITION BY ${structure.partitionKey}` : ''
  const options = structure.options.length > 0 ? `\nWITH (${structure.options.join(', ')})` : ''
  const unlogged = structure.persistence === 'unlogged' ? 'UNLOGGED ' : ''
  const identity = WHOLE_IDENTITIES[structure.replicaIdentity]
  const statement = `CREATE ${unlogged}TABLE ${nameOf(table)} (\n    ${lines.join(',\n    ')}\n)${inherits}${partition}${options};`
  return identity ? `${statement}\n\nALTER TABLE ONLY ${nameOf(table)} REPLICA IDENTITY ${identity};` : statement
}

/** What makes the statement of a table another one. */
const bodyOf = ({ structure, schema, name }: TableManifest) =>
  JSON.stringify([
    schema,
    name,
    structure.persistence,
    structure.columns.map(({ comment: _, ...column }) => column),
    structure.constraints.filter(isCheck),
    structure.inherits ?? [],
    structure.partitionKey,
    structure.partitionOf,
    structure.partitionBound,
    structure.options,
    WHOLE_IDENTITIES[structure.replicaIdentity] ?? null,
  ])

interface Piece {
  type: string
  name: string
  sql: string
  refers?: number | null
}

/** The pieces of a table beside the statement that makes it, in the order in which they are made. */
function piecesOf(table: TableManifest, { oidOf }: Surroundings): Piece[] {
  const { structure, name } = table
  const target = nameOf(table)
  const piece = (type: string, part: string, ...statements: string[]): Piece => ({
    type,
    name: part,
    sql: statements.map((statement) => `${statement};`).join('\n\n'),
  })
  const add = ({ name: part, definition }: Part) => `ALTER TABLE ONLY ${target} ADD CONSTRAINT ${quoteIdentifier(part)} ${definition}`
  const keys = structure.constraints.filter(isKey)
  const plain = structure.indexes.filter(({ name: index }) => !keys.some((key) => key.name === index))
  return [
    ...structure.columns
      .filter(({ identity }) => identity !== null)
      .map((column) =>
        piece(
          'DEFAULT',
          `${name} ${column.name}`,
          `ALTER TABLE ${target} ALTER COLUMN ${quoteIdentifier(column.name)} ADD GENERATED ${column.identity!.toUpperCase()} AS IDENTITY`,
        ),
      ),
    ...structure.columns
      .filter(standsApart)
      .map((column) =>
        piece(
          'DEFAULT',
          `${name} ${column.name}`,
          `ALTER TABLE ONLY ${target} ALTER COLUMN ${quoteIdentifier(column.name)} SET DEFAULT ${column.default}`,
        ),
      ),
    ...structure.constraints
      .filter((part) => isCheck(part) && /NOT VALID$/.test(part.definition))
      .map((part) => piece('CHECK CONSTRAINT', `${name} ${part.name}`, add(part))),
    ...keys.map((part) => piece('CONSTRAINT', `${name} ${part.name}`, add(part), ...marksOf(table, part.name))),
    ...plain.map(({ name: index, definition }) => piece('INDEX', index, withoutMarks(definition), ...marksOf(table, index))),
    ...structure.statistics.map(({ name: part, definition }) => piece('STATISTICS', part, definition)),
    ...structure.constraints.filter(isForeignKey).map((part) => ({
      ...piece('FK CONSTRAINT', `${name} ${part.name}`, add(part)),
      refers: oidOf(referredBy(part.definition)),
    })),
    ...structure.triggers.map(({ name: part, definition }) => piece('TRIGGER', `${name} ${part}`, ...triggerSql(target, part, definition))),
    ...structure.rules.map(({ name: part, definition }) => piece('RULE', `${name} ${part}`, definition.replace(/;\s*$/, ''))),
    ...(structure.rowSecurity === 'off' ? [] : [piece('ROW SECURITY', name, ...rowSecuritySql(target, structure.rowSecurity))]),
    ...structure.policies.map(({ name: part, definition }) => piece('POLICY', `${name} ${part}`, policySql(target, part, definition))),
    ...commentsOf(table).map(([what, statement]) => piece('COMMENT', what, statement)),
    ...grantsOf(structure.grants).map(([role, statement]) =>
      piece('ACL', `TABLE ${name} ${role}`, statement.replace('ON TABLE', `ON TABLE ${target}`)),
    ),
  ]
}

/** The statement of an index, without what the capture says behind it. */
export const withoutMarks = (definition: string) => definition.replace(/( clustered)?( identity)?$/, '')

/** An index by which the table is clustered, or which identifies its rows. */
function marksOf(table: TableManifest, index: string): string[] {
  const { definition } = table.structure.indexes.find((part) => part.name === index) ?? { definition: '' }
  const target = nameOf(table)
  return [
    ...(/ clustered( identity)?$/.test(definition) ? [`ALTER TABLE ${target} CLUSTER ON ${quoteIdentifier(index)}`] : []),
    ...(definition.endsWith(' identity') ? [`ALTER TABLE ONLY ${target} REPLICA IDENTITY USING INDEX ${quoteIdentifier(index)}`] : []),
  ]
}

const ENABLED: Record<string, string> = { D: 'DISABLE', A: 'ENABLE ALWAYS', R: 'ENABLE REPLICA' }

export function triggerSql(target: string, name: string, definition: string): string[] {
  const [, sql, state] = /^([\s\S]*?)(?: enabled (\w))?$/.exec(definition)!
  return [sql!, ...(state ? [`ALTER TABLE ${target} ${ENABLED[state] ?? 'ENABLE'} TRIGGER ${quoteIdentifier(name)}`] : [])]
}

export const rowSecuritySql = (target: string, state: TableStructure['rowSecurity']): string[] => [
  `ALTER TABLE ${target} ${state === 'off' ? 'DISABLE' : 'ENABLE'} ROW LEVEL SECURITY`,
  `ALTER TABLE ONLY ${target} ${state === 'forced' ? 'FORCE' : 'NO FORCE'} ROW LEVEL SECURITY`,
]

const COMMANDS: Record<string, string> = { r: 'SELECT', a: 'INSERT', w: 'UPDATE', d: 'DELETE', '*': 'ALL' }

/** From a policy as the capture describes it: kind, command, roles, condition, and `check` with the condition of new rows. */
export function policySql(target: string, name: string, definition: string): string {
  const roles = policyRoles(definition)
  const [, kind, command] = /^(\w+) (.) /.exec(definition)!
  const rest = definition.slice(kind!.length + 3 + roles.join(',').length).trimStart()
  const check = /^(?:([\s\S]*?) )?check ([\s\S]*)$/.exec(rest)
  const [using, withCheck] = check ? [check[1], check[2]] : [rest || undefined, undefined]
  const to = roles.map((role) => (role === 'public' ? 'PUBLIC' : role))
  return [
    `CREATE POLICY ${quoteIdentifier(name)} ON ${target} AS ${kind!.toUpperCase()} FOR ${COMMANDS[command!]} TO ${to.join(', ')}`,
    ...(using ? [`USING (${using})`] : []),
    ...(withCheck ? [`WITH CHECK (${withCheck})`] : []),
  ].join(' ')
}

function commentsOf(table: TableManifest): [what: string, statement: string][] {
  const { structure, name } = table
  const on = (what: string, text: string | null, label: string): [string, string][] =>
    text === null ? [] : [[label, `COMMENT ON ${what} IS ${quoteLiteral(text)}`]]
  return [
    ...on(`TABLE ${nameOf(table)}`, structure.comment, `TABLE ${name}`),
    ...structure.columns.flatMap((column) =>
      on(`COLUMN ${nameOf(table)}.${quoteIdentifier(column.name)}`, column.comment, `COLUMN ${name}.${column.name}`),
    ),
  ]
}

/** Rights as the capture describes them: `role: PRIVILEGE`, perhaps with the right to pass it on. */
export function grantsOf(grants: string[]): [role: string, statement: string][] {
  return grants.map((grant) => {
    const [, role, privilege, columns, option] = /^([\s\S]*?): (\w+)( \([\s\S]*\))?( with grant option)?$/.exec(grant)!
    const to = role === 'public' ? 'PUBLIC' : quoteIdentifier(role!)
    return [role!, `GRANT ${privilege}${columns ?? ''} ON TABLE TO ${to}${option ? ' WITH GRANT OPTION' : ''}`]
  })
}

/** The table that a foreign key refers to, as `thingKey`. */
function referredBy(definition: string): string {
  const tokens = tokensOf(definition).filter(({ kind }) => kind !== 'space')
  const at = tokens.findIndex(({ text }) => text.toUpperCase() === 'REFERENCES')
  return thingKey(identifierOf(tokens[at + 1]) ?? '', identifierOf(tokens[at + 3]) ?? '')
}

/** Entries that belong to a table beside those that `piecesOf` writes: its sequences, and how it is attached. */
const KEPT = new Set(['SEQUENCE', 'SEQUENCE OWNED BY', 'TABLE ATTACH', 'INDEX ATTACH', 'SECURITY LABEL'])

/**
 * The entries that make a table as it was. What a dump wrote of it at another moment is kept where it still says the
 * same; all else is written anew.
 *
 * @param written what a dump wrote of it before or after; null where none did
 */
export function entriesOfTable(table: TableManifest, written: WrittenTable | null, around: Surroundings): StructureEntry[] {
  const old = written && nameOf(written.table) === nameOf(table) ? written : null
  const kept = keptEntries(table, old)
  const root = old?.entries.find((entry) => isTableEntry(entry) && entry.oid === table.oid)
  const sameBody = old !== null && root !== undefined && bodyOf(old.table) === bodyOf(table)
  const blank = { schema: table.schema, owner: table.structure.owner, of: table.oid, refers: null, ownerSql: null, needs: [] as number[] }
  const moved: StructureEntry = sameBody
    ? { ...root, owner: table.structure.owner, ownerSql: ownerSqlOf(table) }
    : {
        ...blank,
        id: root?.id ?? around.nextId(),
        catalog: CATALOG.relation,
        oid: table.oid,
        of: null,
        needs: [...new Set([...(root?.needs ?? []), ...needsOf(table, around.entries)])],
        name: table.name,
        type: 'TABLE',
        sql: createTableSql(table),
        made: true,
        ownerSql: ownerSqlOf(table),
        ...(root?.tablespace === undefined ? {} : { tablespace: root.tablespace }),
      }
  const before = old ? piecesOf(old.table, around) : []
  const same = (a: Piece, b: Piece) => a.type === b.type && a.name === b.name && a.sql === b.sql
  const entries = [moved, ...kept.filter(({ type }) => type !== 'COMMENT')]
  for (const piece of piecesOf(table, around)) {
    const wrote = before.some((other) => same(piece, other)) ? old!.entries.filter((entry) => isOf(entry, piece)) : []
    // An identity is made by the entry of its sequence where a dump wrote one.
    if (piece.sql.includes('AS IDENTITY') && kept.some(({ sql }) => sql.includes('ADD GENERATED'))) continue
    // What a dump left out of a partition comes with the same of its parent.
    if (
      piece.type === 'TRIGGER' &&
      table.structure.partitionOf !== null &&
      wrote.length === 0 &&
      before.some((other) => same(piece, other))
    )
      continue
    if (wrote.length > 0) entries.push(...wrote)
    else
      entries.push({
        ...blank,
        id: around.nextId(),
        catalog: 0,
        oid: 0,
        refers: piece.refers ?? null,
        needs: [moved.id],
        made: true,
        ...piece,
        ...ownerOfPart(piece, written),
      })
  }
  // Comments come behind the parts that they are on.
  entries.push(...kept.filter(({ type }) => type === 'COMMENT'))
  return entries.filter((entry, i) => entries.findIndex(({ id }) => id === entry.id) === i)
}

/** Statistics have an owner of their own, which no structure of a table tells. */
function ownerOfPart({ type, name }: Piece, written: WrittenTable | null): Partial<StructureEntry> {
  const known = type === 'STATISTICS' ? written?.entries.find((entry) => entry.type === type && entry.name === name) : undefined
  return known ? { owner: known.owner, ownerSql: known.ownerSql } : {}
}

const ownerSqlOf = (table: TableManifest) => `ALTER TABLE ${nameOf(table)} OWNER TO ${quoteIdentifier(table.structure.owner)};`

const isOf = (entry: StructureEntry, { type, name }: Piece) =>
  entry.type === type && (entry.name === name || (type === 'ACL' && name.startsWith(`${entry.name} `)))

/** Entries of a table that say nothing of its columns or parts, or of columns that it had. */
function keptEntries(table: TableManifest, old: WrittenTable | null): StructureEntry[] {
  const columns = table.structure.columns
  const isAttached = table.structure.partitionOf !== null
  const uses = (sql: string) =>
    columns.some(({ name, default: value, identity }) => (identity !== null || value !== null) && sql.includes(name))
  const parts = partNames(table)
  return (old?.entries ?? []).filter(({ type, sql, name: entry }) => {
    if (type === 'COMMENT') return parts.some((part) => COMMENT_ON_PART.exec(entry)?.[1] === part)
    if (!KEPT.has(type)) return false
    if (type === 'SEQUENCE' && sql.includes('ADD GENERATED'))
      return columns.some(({ identity, name }) => identity !== null && sql.includes(name))
    if (type === 'SEQUENCE' || type === 'SEQUENCE OWNED BY') return uses(sql) || type === 'SEQUENCE'
    return isAttached || type === 'SECURITY LABEL'
  })
}

const COMMENT_ON_PART = /^(?:INDEX|CONSTRAINT|TRIGGER|RULE|POLICY|STATISTICS) ([\s\S]+?)(?: ON [\s\S]*)?$/

const partNames = ({ structure }: TableManifest): string[] =>
  [structure.constraints, structure.indexes, structure.triggers, structure.rules, structure.policies, structure.statistics].flatMap(
    (parts) => parts.map(({ name }) => name),
  )

/** Schemas and types that a table's statement names. */
function needsOf({ schema, structure }: TableManifest, entries: StructureEntry[]): number[] {
  const types = structure.columns.map(({ type }) => type).join(' ')
  return entries
    .filter(({ type, schema: of, name }) =>
      type === 'SCHEMA' ? name === schema : /TYPE|DOMAIN/.test(type) && types.includes(name) && of !== null,
    )
    .map(({ id }) => id)
}
