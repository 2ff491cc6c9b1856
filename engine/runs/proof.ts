import { namesOfChunks } from '../../core/content/chunk-list'
import { createHash } from 'node:crypto'
import type pg from 'pg'
import { differencesOf, renameStructure, structureText } from '../../core/compare/structure'
import type { TableManifest, TableStructure } from '../../core/content/manifest'
import { tallyRows, type RowsTally } from '../../core/content/rows'
import { VesselError } from '../../core/errors'
import { addFingerprints, inOrderOf, rootToLoadThrough } from '../../core/restore/partitions'
import type { Operation } from '../../core/restore/plan'
import { copyOut } from '../sources/postgres/copy-out'
import { copyStatement } from '../sources/postgres/capture'
import { describeTables } from '../sources/postgres/describe'
import type { Merged } from '../sources/postgres/merge'
import type { UnrestoredPart } from '../sources/postgres/refill'
import type { Store } from '../store/store'
import type { GroupMember } from '../../core/restore/entries'
import type { GroupJob } from './restore-group'

/** What became of one table. Fingerprints are null where no rows were asked for, structures where it was left as it is now. */
export interface TableOutcome {
  operation: Operation
  rows: number
  fingerprintThen: string | null
  fingerprintNow: string | null
  structureThen: string | null
  structureNow: string | null
  equal: boolean
  /** What differs in the structure, in words. */
  differences: string[]
  unrestored: UnrestoredPart[]
}

/**
 * Reads every table of a group back, within its transaction, and compares it with the backup; rows that differ end
 * the transaction.
 */
export async function prove(
  client: pg.Client,
  job: GroupJob,
  merged: Map<TableManifest, Merged>,
  unrestored: UnrestoredPart[],
): Promise<TableOutcome[]> {
  const { members, planned } = job
  const { renaming, roles } = planned.writing
  const described = await describeTables(
    client,
    members.map(({ operation }) => operation.target),
  )
  const outcomes: TableOutcome[] = []
  const spread = new SpreadRows()
  for (const { operation, table } of members) {
    const { schema, name } = operation.target
    const now = described.find((candidate) => candidate.schema === schema && candidate.name === name)!
    const counted = merged.get(table)
    const root = rootToLoadThrough(table, planned.manifest.tables)
    const together = root ? spread.of(root, operation) : null
    const rows = counted ? mergedRows(job, operation, table, counted) : await proveRows(client, job, operation, table, together)
    const expected = renameStructure(table.structure, renaming, roles)
    const [before, after] = [expected, now.structure].map(digest)
    const asked = planned.wish.what !== 'rows' && !counted
    outcomes.push({
      operation,
      ...rows,
      structureThen: asked ? before! : null,
      structureNow: asked ? after! : null,
      equal: !asked || before === after,
      differences: asked && before !== after ? differencesOf(expected, now.structure) : [],
      unrestored: leftOf(table, members, unrestored),
    })
  }
  spread.compare()
  return outcomes
}

type Counted = Pick<RowsTally, 'rows' | 'fingerprint'>

/** The partitions of one tree, as they were and as they are. */
interface Tree {
  /** Order of the columns in which all of them are told, whatever their own is. */
  columns: string[]
  /** What brought the first of them back. */
  operation: Operation
  before: Counted[]
  now: Counted[]
}

/** Rows that may lie in other partitions of their tree than then are compared together, tree by tree. */
class SpreadRows {
  private readonly trees = new Map<TableManifest, Tree>()

  of(root: TableManifest, operation: Operation): Tree {
    const tree = this.trees.get(root) ?? { columns: root.columns, operation, before: [], now: [] }
    this.trees.set(root, tree)
    return tree
  }

  compare(): void {
    const sum = (all: Counted[]): RowsTally => ({
      rows: all.reduce((rows, count) => rows + count.rows, 0),
      bytes: 0,
      fingerprint: addFingerprints(all.map((part) => part.fingerprint)),
    })
    for (const { operation, ...tree } of this.trees.values()) {
      const [earlier, now] = [sum(tree.before), sum(tree.now)]
      if (earlier.rows !== now.rows || earlier.fingerprint !== now.fingerprint) throw unequal(earlier, operation, now)
    }
  }
}

type ProvenRows = Pick<TableOutcome, 'rows' | 'fingerprintThen' | 'fingerprintNow'>

function mergedRows(
  { progress }: GroupJob,
  operation: Operation,
  table: TableManifest,
  { added, changed, fingerprintThen, fingerprintNow }: Merged,
): ProvenRows {
  progress.checked(operation.rows)
  const rows = added + changed
  if (fingerprintThen !== fingerprintNow) throw unequal(table, operation, { rows, bytes: 0, fingerprint: fingerprintNow })
  return { rows, fingerprintThen, fingerprintNow }
}

async function proveRows(
  client: pg.Client,
  { planned, progress, store }: GroupJob,
  operation: Operation,
  table: TableManifest,
  tree: Tree | null,
): Promise<ProvenRows> {
  const nothing: RowsTally = { rows: 0, bytes: 0, fingerprint: table.fingerprint }
  const statement = copyStatement({ ...operation.target, columns: tree?.columns ?? table.columns })
  const isPlain = table.structure.kind === 'table'
  const tally = isPlain ? await copyOut(client, statement, {}, async (chunk) => progress.checked(chunk.rows)) : nothing
  if (planned.wish.what === 'structure') {
    if (tally.rows > 0) throw unequal({ rows: 0, fingerprint: 'none' }, operation, tally)
    return { rows: 0, fingerprintThen: null, fingerprintNow: null }
  }
  if (tree && isPlain) {
    const earlier = await thenInOrder(table, tree.columns, store)
    tree.before.push(earlier)
    tree.now.push(tally)
    return { rows: tally.rows, fingerprintThen: earlier.fingerprint, fingerprintNow: tally.fingerprint }
  }
  if (tally.fingerprint !== table.fingerprint || tally.rows !== table.rows) throw unequal(table, operation, tally)
  return { rows: tally.rows, fingerprintThen: table.fingerprint, fingerprintNow: tally.fingerprint }
}

/** Rows of a partition as they are told in the order of its root's columns; partitions may have one of their own. */
async function thenInOrder(table: TableManifest, columns: string[], store: Store): Promise<Counted> {
  if (table.columns.join() === columns.join()) return table
  const fingerprints: string[] = []
  const chunks = store.readAll(namesOfChunks(table.chunks))
  for await (const chunk of inOrderOf(chunks, table.columns, columns)) fingerprints.push(tallyRows([chunk]).fingerprint)
  return { rows: table.rows, fingerprint: addFingerprints(fingerprints) }
}

function leftOf(table: TableManifest, members: GroupMember[], unrestored: UnrestoredPart[]): UnrestoredPart[] {
  const others = members.filter((member) => member.table !== table)
  // What can't be told to be another table's is told with the first.
  return unrestored.filter(
    ({ what }) => what.includes(table.name) || (members[0]!.table === table && !others.some((o) => what.includes(o.table.name))),
  )
}

function digest(structure: TableStructure): string {
  return createHash('sha256').update(structureText(structure)).digest('hex').slice(0, 32)
}

function unequal(table: Pick<TableManifest, 'rows' | 'fingerprint'>, operation: Operation, tally: RowsTally): VesselError {
  return new VesselError('not_equal', {
    what: `${operation.target.schema}.${operation.target.name} does not hold the rows of the backup after loading: ${tally.rows} rows with fingerprint ${tally.fingerprint}, and the backup has ${table.rows} with ${table.fingerprint}.`,
    touched: 'The transaction was rolled back: the table is as it was before.',
    next: 'See whether something changes rows while they are loaded, such as a trigger that always fires.',
  })
}
