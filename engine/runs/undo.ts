import { bytesOf } from '../../core/content/text'
import { createHash } from 'node:crypto'
import type pg from 'pg'
import { undone } from '../../core/changes/undo'
import { VesselError } from '../../core/errors'
import { fieldsOf } from '../../core/compare/rows'
import { qualified, quoteIdentifier, quoteLiteral, thingKey } from '../../core/restore/sql'
import { namesOf } from '../../core/things/thing'
import { accessOf } from '../catalog/sources'
import type { Vessel } from '../catalog/vessels'
import { asTheyAreNow, chosen, everyRowOf, heldNow, type TransactionRef, type UndoChoices, type UndoTable } from '../log/undo'
import { connect, translate } from '../sources/postgres/connect'
import { putBack, quieten } from '../sources/postgres/refill'
import type { RunContext } from './context'
import { databaseTarget, holdTargets } from './targets'
import { noteReturns } from '../watch/returns'
import { commitSurely } from '../sources/postgres/commit'
import { lockAll } from '../sources/postgres/locks'
import { lockStatement } from './restore-group'

export interface UndoParams {
  transaction: TransactionRef
  choices: UndoChoices
  reason: string
}

interface Outcome {
  table: UndoTable
  rows: number
  before: string
  now: string
}

/**
 * Undoes one transaction of the log and leaves everything after it, in one transaction of its own. What it will do
 * is gathered from the log before anything is locked, which may take minutes; with the tables locked the rows are looked
 * at once more, so that nothing comes between, and afterwards they are read back.
 */
export async function undo(run: RunContext, vessel: Vessel, { transaction, choices }: UndoParams): Promise<void> {
  const [source, database] = namesOf(transaction.member)
  const access = await accessOf(run.engine, source!)
  await holdTargets(run, [databaseTarget(access, database!)])
  const step = await run.plan({ kind: 'undo', member: transaction.member.replace('/', ' / '), title: 'Rows of the transaction' })
  const outcomes = await run.step(step, async (count) => {
    const plan = await everyRowOf(run.engine, vessel, transaction)
    const client = await connect(access, database)
    try {
      await client.query('begin')
      await lockAll(
        client,
        plan.tables.map((table) => lockStatement(table, true)),
      )
      const tables: UndoTable[] = []
      for (const table of plan.tables) tables.push(await asTheyAreNow(client, table))
      const outcomes = await apply(client, tables, choices, count)
      await commitSurely(client, { access, database: database!, confirm: () => run.confirm() })
      return outcomes
    } catch (error) {
      await client.query('rollback').catch(() => undefined)
      throw translate(error, access, database, 'It was rolled back: no row was changed.')
    } finally {
      await client.end().catch(() => undefined)
    }
  })
  await writeReceipt(run, outcomes)
  await noteReturns(run.engine, run.id, () => true, new Set())
  const leftRows = outcomes.reduce((sum, { table }) => sum + table.rows.filter((row) => !chosen(table, choices).includes(row)).length, 0)
  await run.end(leftRows > 0 ? 'warned' : 'done', {
    outcome: {
      undone: outcomes.reduce((sum, { rows }) => sum + rows, 0),
      left: leftRows,
      transaction: transaction.position,
      member: transaction.member,
    },
  })
}

async function apply(
  client: pg.Client,
  tables: UndoTable[],
  choices: UndoChoices,
  count: (counter: string, by: number) => void,
): Promise<Outcome[]> {
  const ordered = await byReference(client, tables)
  const quiet = await quieten(client, ordered)
  // Rows that refer to others go before them and come after them.
  for (const table of [...ordered].reverse()) await removeRows(client, table, choices)
  for (const table of ordered) await putRows(client, table, choices)
  await putBack(client, quiet)
  const outcomes: Outcome[] = []
  for (const table of ordered) outcomes.push(await proven(client, table, choices, count))
  return outcomes
}

/** Tables that others refer to first. */
async function byReference(client: pg.Client, tables: UndoTable[]): Promise<UndoTable[]> {
  const { rows } = await client.query<{ from: number; to: number }>(
    `select conrelid::int as from, confrelid::int as to from pg_catalog.pg_constraint
     where contype = 'f' and conrelid = any ($1::regclass[]) and confrelid = any ($1::regclass[]) and conrelid <> confrelid`,
    [tables.map(({ schema, name }) => qualified(schema, name))],
  )
  const ordered: UndoTable[] = []
  const visit = (table: UndoTable, above: UndoTable[]) => {
    if (ordered.includes(table) || above.includes(table)) return
    for (const { from, to } of rows) {
      const parent = from === table.oid ? tables.find(({ oid }) => oid === to) : undefined
      if (parent) visit(parent, [...above, table])
    }
    ordered.push(table)
  }
  for (const table of tables) visit(table, [])
  return ordered
}

const values = (table: UndoTable, row: string[], at: number[]) =>
  at.map((i) => {
    const value = fieldsOf(row[i]!)[0]!
    return value === null ? `null::${table.types[i]}` : `${quoteLiteral(value)}::${table.types[i]}`
  })

const keyCondition = (table: UndoTable, row: string[]) => {
  const at = table.key.map((column) => table.columns.indexOf(column))
  return `(${table.key.map(quoteIdentifier).join(', ')}) = (${values(table, row, at).join(', ')})`
}

async function removeRows(client: pg.Client, table: UndoTable, choices: UndoChoices): Promise<void> {
  const name = qualified(table.schema, table.name)
  for (const row of chosen(table, choices))
    if (row.act === 'remove') await client.query(`delete from only ${name} where ${keyCondition(table, row.now!)}`)
}

const ROWS_AT_ONCE = 200

async function putRows(client: pg.Client, table: UndoTable, choices: UndoChoices): Promise<void> {
  const name = qualified(table.schema, table.name)
  const rows = chosen(table, choices)
  const all = table.columns.map((_, i) => i)
  for (const row of rows) {
    if (row.act !== 'set back') continue
    const set = row.columns.map((i) => `${quoteIdentifier(table.columns[i]!)} = ${values(table, row.before!, [i])[0]}`)
    await client.query(`update only ${name} set ${set.join(', ')} where ${keyCondition(table, row.now!)}`)
  }
  const back = rows.filter(({ act }) => act === 'restore')
  for (let from = 0; from < back.length; from += ROWS_AT_ONCE) {
    const some = back.slice(from, from + ROWS_AT_ONCE).map(({ before }) => `(${values(table, before!, all).join(', ')})`)
    await client.query(
      `insert into ${name} (${table.columns.map(quoteIdentifier).join(', ')}) overriding system value values ${some.join(', ')}`,
    )
  }
}

const digest = (rows: (string[] | null)[]) =>
  createHash('sha256')
    .update(bytesOf(rows.map((row) => (row ? row.join('\t') : '-')).join('\n')))
    .digest('hex')
    .slice(0, 32)

/** Reads the rows back: they must be what they were to become, or nothing stays. */
async function proven(
  client: pg.Client,
  table: UndoTable,
  choices: UndoChoices,
  count: (counter: string, by: number) => void,
): Promise<Outcome> {
  const rows = chosen(table, choices)
  const [earlier, found] = [digest(rows.map(undone)), digest(await heldNow(client, table, rows))]
  count('rows', rows.length)
  if (earlier !== found) {
    throw new VesselError('undo_unproven', {
      what: `Rows of ${table.schema}.${table.name} were not what they were to become: something at the source changes them as they are written.`,
      touched: 'It was rolled back: no row was changed.',
      next: 'Look for rules and generated values at the source, and bring the rows back from just before the transaction instead.',
    })
  }
  return { table, rows: rows.length, before: earlier, now: found }
}

async function writeReceipt(run: RunContext, outcomes: Outcome[]): Promise<void> {
  if (outcomes.length === 0) return
  await run.engine.db
    .insertInto('receipt')
    .values(
      outcomes.map(({ table, rows, before: earlier, now }, ordinal) => ({
        run_id: run.id,
        ordinal,
        path: table.path,
        target: thingKey(table.schema, table.name),
        verb: 'undo',
        outcome: 'merged' as const,
        reason:
          table.rows.length > rows ? `${table.rows.length - rows} left as they are now, because something has changed them since.` : null,
        rows,
        fingerprint_then: earlier,
        fingerprint_now: now,
        structure_then: null,
        structure_now: null,
        equal: earlier === now,
        left_parts: '[]',
      })),
    )
    .execute()
}
