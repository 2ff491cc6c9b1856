import { columnInWords, policyText, renameStructure } from '../compare/structure'
import type { Column, Part, TableManifest, TableStructure } from '../content/manifest'
import { noRenaming, quoteIdentifier, quoteLiteral, thingKey } from './sql'
import { grantsOf, isCheck, isForeignKey, isKey, policySql, rowSecuritySql, triggerSql, withoutMarks } from './table-entries'

// What can be made equal in a table that stands, without making the table again.

/** One difference between a table then and now, and the statements that make it equal. */
export interface Mend {
  /** In words, with what becomes of it: `policy own is made again`. */
  words: string
  /** Run before rows are loaded, and after all of them are there. */
  before: string[]
  after: string[]
  /** Run when everything is there, because it forbids what rows of other tables may still hold before. */
  last?: string[]
  /** Whose rights are first made those that it had when it was made; named as the dump's table of contents does. */
  resets?: { schema: string | null; name: string }
  /** What it is of may have gone with another mend, and then nothing is left to be done. */
  mayBeGone?: true
  /** The foreign key that it makes, which may have come back already with the table at its other end. */
  key?: { schema: string; table: string; name: string }
}

/** Of a table that has no part or rows of its own more than this is settled by making it again. */
const isPartOfTree = ({ kind, partitionOf }: TableStructure) => kind === 'partitioned' || partitionOf !== null

const keysOf = (structure: TableStructure) => structure.constraints.filter(isKey)
const columnShape = ({ name, type, collation, identity, generated, default: value }: Column) => [
  name,
  type,
  collation,
  identity !== null,
  generated ? value : null,
]

/** Whether a table has to be made again to be as it was; else it can be emptied, filled and mended. */
export function needsRebuild(before: TableStructure, now: TableStructure): boolean {
  const shape = (structure: TableStructure) => [
    structure.kind,
    structure.persistence,
    structure.accessMethod ?? null,
    structure.columns.map(columnShape),
    keysOf(structure),
    structure.partitionKey,
    structure.partitionOf,
    structure.partitionBound,
    structure.inherits ?? [],
    // Parts of a tree of partitions come and go with their parent's.
    isPartOfTree(structure)
      ? [
          structure.columns.map(columnInWords),
          structure.constraints,
          structure.indexes,
          structure.triggers,
          structure.rules,
          structure.statistics,
        ]
      : [],
  ]
  return JSON.stringify(shape(before)) !== JSON.stringify(shape(now))
}

/** The differences of a table that stands and does not need to be made again. `roles` are names of roles at the target. */
export function mendsOf(table: TableManifest, now: TableStructure, roles: Record<string, string>): Mend[] {
  const before = renameStructure(table.structure, noRenaming(), roles)
  const target = thingKey(table.schema, table.name)
  return [
    ...columnMends(before, now, target),
    ...partMends(before, now, table),
    ...securityMends(before, now, target),
    ...propertyMends(before, now, target),
  ]
}

const mend = (words: string, before: string[], after: string[]): Mend => ({ words, before, after })

function columnMends(before: TableStructure, now: TableStructure, target: string): Mend[] {
  return before.columns.flatMap((column) => {
    const is = now.columns.find(({ name }) => name === column.name)
    if (!is) return []
    const alter = `ALTER TABLE ONLY ${target} ALTER COLUMN ${quoteIdentifier(column.name)}`
    const mends: Mend[] = []
    if (!column.generated && column.default !== is.default)
      mends.push(
        mend(
          `default of ${column.name} as then`,
          [],
          [`${alter} ${column.default === null ? 'DROP DEFAULT' : `SET DEFAULT ${column.default}`}`],
        ),
      )
    if (column.identity !== null && is.identity !== null && column.identity !== is.identity)
      mends.push(
        mend(`${column.name} is generated ${column.identity} again`, [], [`${alter} SET GENERATED ${column.identity.toUpperCase()}`]),
      )
    if (column.nullable !== is.nullable)
      mends.push(
        column.nullable
          ? mend(`${column.name} may be null again`, [`${alter} DROP NOT NULL`], [])
          : mend(`${column.name} is not null again`, [], [`${alter} SET NOT NULL`]),
      )
    if (column.comment !== is.comment)
      mends.push(
        mend(
          `comment on ${column.name} as then`,
          [],
          [
            `COMMENT ON COLUMN ${target}.${quoteIdentifier(column.name)} IS ${column.comment === null ? 'NULL' : quoteLiteral(column.comment)}`,
          ],
        ),
      )
    return mends
  })
}

interface PartKind {
  word: string
  of: (structure: TableStructure) => Part[]
  drop: (name: string) => string
  make: (part: Part) => string[]
}

function partKinds({ schema, name }: { schema: string; name: string }): PartKind[] {
  const target = thingKey(schema, name)
  const constraint = (word: string, is: (part: Part) => boolean): PartKind => ({
    word,
    of: ({ constraints }) => constraints.filter(is),
    drop: (part) => `ALTER TABLE ONLY ${target} DROP CONSTRAINT ${quoteIdentifier(part)}`,
    make: ({ name: part, definition }) => [`ALTER TABLE ONLY ${target} ADD CONSTRAINT ${quoteIdentifier(part)} ${definition}`],
  })
  return [
    constraint('check', isCheck),
    {
      word: 'index',
      of: ({ indexes, constraints }) =>
        indexes
          .filter((index) => !constraints.some((constraint) => isKey(constraint) && constraint.name === index.name))
          .map((index) => ({ ...index, definition: withoutMarks(index.definition) })),
      drop: (part) => `DROP INDEX ${thingKey(schema, part)}`,
      make: ({ definition }) => [definition],
    },
    {
      word: 'statistics',
      of: ({ statistics }) => statistics,
      drop: (part) => `DROP STATISTICS ${thingKey(schema, part)}`,
      make: ({ definition }) => [definition],
    },
    constraint('foreign key', isForeignKey),
    {
      word: 'trigger',
      of: ({ triggers }) => triggers,
      drop: (part) => `DROP TRIGGER ${quoteIdentifier(part)} ON ${target}`,
      make: ({ name: part, definition }) => triggerSql(target, part, definition),
    },
    {
      word: 'rule',
      of: ({ rules }) => rules,
      drop: (part) => `DROP RULE ${quoteIdentifier(part)} ON ${target}`,
      make: ({ definition }) => [definition.replace(/;\s*$/, '')],
    },
    {
      word: 'policy',
      of: ({ policies }) => policies.map((policy) => ({ ...policy, definition: policyText(policy.definition) })),
      drop: (part) => `DROP POLICY ${quoteIdentifier(part)} ON ${target}`,
      make: ({ name: part, definition }) => [policySql(target, part, definition)],
    },
  ]
}

function partMends(before: TableStructure, now: TableStructure, table: TableManifest): Mend[] {
  return partKinds(table).flatMap(({ word, of, drop, make }) => {
    const [wanted, found] = [of(before), of(now)]
    const same = (part: Part) => found.some(({ name, definition }) => name === part.name && definition === part.definition)
    const gone = found.filter((part) => !wanted.some(({ name }) => name === part.name))
    return [
      ...gone.map(({ name }) => mend(`${word} ${name} is taken off`, [drop(name)], [])),
      ...wanted
        .filter((part) => !same(part))
        .map((part) => {
          const stands = found.some(({ name }) => name === part.name)
          const made = mend(`${word} ${part.name} is made again`, stands ? [drop(part.name)] : [], make(part))
          return word === 'foreign key' ? { ...made, key: { schema: table.schema, table: table.name, name: part.name } } : made
        }),
    ]
  })
}

function securityMends(before: TableStructure, now: TableStructure, target: string): Mend[] {
  const mends: Mend[] = []
  if (before.owner !== now.owner)
    mends.push(mend(`owner back to ${before.owner}`, [], [`ALTER TABLE ${target} OWNER TO ${quoteIdentifier(before.owner)}`]))
  if (before.rowSecurity !== now.rowSecurity)
    mends.push(mend(`row security ${before.rowSecurity} again`, [], rowSecuritySql(target, before.rowSecurity)))
  const roleOf = (grant: string) => /^([\s\S]*?): /.exec(grant)![1]!
  const rights = (grants: string[], role: string) => grants.filter((grant) => roleOf(grant) === role).sort()
  // A change of owner moves rights, so all of them are given anew then.
  const changed = [...new Set([...before.grants, ...now.grants].map(roleOf))].filter(
    (role) => before.owner !== now.owner || rights(before.grants, role).join() !== rights(now.grants, role).join(),
  )
  for (const role of changed) {
    const to = role === 'public' ? 'PUBLIC' : quoteIdentifier(role)
    const given = grantsOf(rights(before.grants, role)).map(([, statement]) => statement.replace('ON TABLE', `ON TABLE ${target}`))
    mends.push(mend(`rights of ${role} as then`, [], [`REVOKE ALL ON TABLE ${target} FROM ${to} CASCADE`, ...given]))
  }
  return mends
}

function propertyMends(before: TableStructure, now: TableStructure, target: string): Mend[] {
  const mends: Mend[] = []
  if (before.comment !== now.comment)
    mends.push(
      mend('comment as then', [], [`COMMENT ON TABLE ${target} IS ${before.comment === null ? 'NULL' : quoteLiteral(before.comment)}`]),
    )
  if (before.options.join() !== now.options.join()) {
    const names = now.options
      .map((option) => option.slice(0, option.indexOf('=')))
      .filter((name) => !before.options.some((option) => option.startsWith(`${name}=`)))
    mends.push(
      mend(
        'storage settings as then',
        [],
        [
          ...(names.length > 0 ? [`ALTER TABLE ONLY ${target} RESET (${names.join(', ')})`] : []),
          ...(before.options.length > 0 ? [`ALTER TABLE ONLY ${target} SET (${before.options.join(', ')})`] : []),
        ],
      ),
    )
  }
  const markOf = (structure: TableStructure, mark: string) =>
    structure.indexes.find(({ definition }) => definition.includes(` ${mark}`))?.name ?? null
  const clustered = markOf(before, 'clustered')
  if (clustered !== markOf(now, 'clustered'))
    mends.push(
      mend(
        'clustering as then',
        [],
        [
          clustered === null
            ? `ALTER TABLE ${target} SET WITHOUT CLUSTER`
            : `ALTER TABLE ${target} CLUSTER ON ${quoteIdentifier(clustered)}`,
        ],
      ),
    )
  const identity = markOf(before, 'identity')
  if (before.replicaIdentity !== now.replicaIdentity || identity !== markOf(now, 'identity')) {
    const how = { d: 'DEFAULT', f: 'FULL', n: 'NOTHING', i: `USING INDEX ${quoteIdentifier(identity ?? '')}` }[before.replicaIdentity]
    mends.push(mend('replica identity as then', [], [`ALTER TABLE ONLY ${target} REPLICA IDENTITY ${how}`]))
  }
  return mends
}
