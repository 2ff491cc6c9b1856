import type pg from 'pg'
import { readRef } from '../../core/chain/moment-ref'
import { holdsNames } from '../../core/restore/groups'
import { thingKey } from '../../core/restore/sql'
import { pathOf } from '../../core/things/thing'
import { auditWords, lastAudits } from '../log/audits'
import type { OpenPoint } from '../points/open'
import { copyStatement } from '../sources/postgres/capture'
import { commitSurely } from '../sources/postgres/commit'
import { withClient } from '../sources/postgres/connect'
import { copyOut } from '../sources/postgres/copy-out'
import { silence } from '../sources/postgres/event-triggers'
import type { RunContext } from './context'
import type { Receipts } from './receipts'
import type { PlannedDatabase } from './restore-plan'

// What is done, looked at and said when everything of a database is there.

interface Ending {
  run: RunContext
  point: OpenPoint
  planned: PlannedDatabase
  receipts: Receipts
}

/** What forbids values that tables may have held until now; each by itself, and what the server refuses is told. */
export async function makeStrict({ planned, receipts }: Ending): Promise<void> {
  const { access, database, plan } = planned
  const undone = receipts.undone()
  const due = plan.operations.flatMap((operation) =>
    operation.verb === 'leave' || undone.has(operation.path)
      ? []
      : operation.mends.flatMap(({ words, last = [] }) => last.map((sql) => ({ operation, words, sql }))),
  )
  if (due.length === 0) return
  await withClient(access, database, async (client) => {
    for (const { operation, words, sql } of due) {
      const failure = await alone(client, planned, sql)
      if (failure === null) continue
      // A constraint that the rows that are there can't be held against is there for all that come.
      const isThere = / ADD CONSTRAINT /.test(sql) && (await alone(client, planned, `${sql} NOT VALID`)) === null
      const before = isThere ? 'It holds for what is written from now on; rows that are there were not looked at.' : 'It is not there.'
      receipts.compared(operation.path, operation.target.name, false, `${words}: ${failure}. ${before}`)
    }
  })
}

/** A statement in a transaction of its own; why it failed, null where it did not. */
async function alone(client: pg.Client, planned: PlannedDatabase, sql: string): Promise<string | null> {
  await client.query('begin')
  try {
    const restore = await silence(client)
    await client.query(sql)
    await restore()
    await commitSurely(client, planned)
    return null
  } catch (error) {
    await client.query('rollback').catch(() => undefined)
    return (error as Error).message
  }
}

/**
 * Rows that name other things, as a `regclass` does, are read once more when all is there: what was made again after
 * they were loaded is another thing for them.
 */
export async function namesStillHold({ planned, receipts }: Ending): Promise<void> {
  const { access, database, manifest, plan, wish } = planned
  const byPath = new Map(manifest.tables.map((table) => [table.path, table]))
  const naming = plan.operations.flatMap((operation) => {
    const table = byPath.get(operation.path)
    const isFilled = operation.how !== null && operation.how !== 'merge' && operation.how !== 'rows' && wish.what !== 'structure'
    return table && isFilled && table.structure.kind === 'table' && holdsNames(table) ? [{ operation, table }] : []
  })
  const undone = receipts.undone()
  const due = naming.filter(({ operation }) => !undone.has(operation.path))
  if (due.length === 0) return
  await withClient(access, database, async (client) => {
    for (const { operation, table } of due) {
      const statement = copyStatement({ ...operation.target, columns: table.columns })
      const now = await copyOut(client, statement, {}, async () => undefined)
      if (now.fingerprint === table.fingerprint) continue
      receipts.compared(
        operation.path,
        thingKey(operation.target.schema, operation.target.name),
        false,
        'Rows of it name something that was made again after they were loaded, and now show its old number. Restore this table once more.',
      )
    }
  })
}

/** A state that a log led to says on its receipt whether that log was audited. */
export async function sayAudited({ run, point, planned, receipts }: Ending): Promise<void> {
  if (!readRef(point.id)) return
  const { source, manifest, plan } = planned
  const member = pathOf(source, manifest.name)
  const follower = await run.engine.db
    .selectFrom('follower')
    .select('era')
    .where('vessel_id', '=', point.vesselId)
    .where('member', '=', member)
    .executeTakeFirst()
  if (!follower) return
  const back = new Set(plan.operations.filter(({ verb }) => verb !== 'leave').map(({ path }) => path))
  const oids = manifest.tables.filter(({ path, structure }) => structure.kind === 'table' && back.has(path)).map(({ oid }) => oid)
  if (oids.length === 0) return
  const audits = await lastAudits(run.engine, point.vesselId, member, follower.era)
  const reason = auditWords(audits, manifest.position, oids)
  receipts.noted(pathOf(source, manifest.name, 'audit of the log'), member, reason)
}

/** Sequences of a moment may be ahead of it, which is said where some came back. */
export function saySequences({ planned, receipts }: Ending): void {
  const { source, manifest, plan } = planned
  const path = pathOf(source, manifest.name, 'sequences')
  const owned = new Set(manifest.sequences.flatMap(({ ownedBy }) => (ownedBy ? [pathOf(source, manifest.name, ...ownedBy)] : [])))
  const some = plan.operations.some(
    (operation) => operation.verb !== 'leave' && (operation.kind === 'sequence' || owned.has(operation.path)),
  )
  for (const { reason } of some ? manifest.missing.filter((lack) => lack.path === path) : [])
    receipts.noted(path, `${planned.access.name} / ${planned.database}`, reason)
}
