import type pg from 'pg'
import { VesselError } from '../../../core/errors'
import { OWN } from './event-triggers'
import { connect, type PostgresAccess } from './connect'

/** How long it is asked what became of a transaction whose commit was not answered. */
const ASK_FOR_MS = 20_000

/** Whether the server itself has refused, so that what was asked for did not happen. */
export const isRefusal = (error: unknown) => /^(?!57P|08)[0-9A-Z]{5}$/.test((error as { code?: string }).code ?? '')

/** Asked before each commit: throws when whoever writes is not to any more. */
export type Confirmed = () => Promise<void>

/**
 * Commits the caller's transaction. Where the connection breaks before the answer comes, the server is asked what
 * became of it: after a commit nothing may say that it was rolled back.
 *
 * @param confirm what is asked right before
 * @throws VesselError `outcome_unknown` when the server can't be asked; the error of the commit when it was not committed
 */
export async function commitSurely(
  client: pg.Client,
  { access, database, confirm }: { access: PostgresAccess; database: string; confirm: Confirmed },
): Promise<void> {
  await confirm()
  const { rows } = await client.query<{ id: string | null }>(
    `select case when own.id is not null and has_function_privilege('pg_logical_emit_message(boolean,text,text)', 'execute')
       then pg_logical_emit_message(true, $1, '') end, own.id::text as id from pg_current_xact_id_if_assigned() own (id)`,
    [OWN],
  )
  try {
    await client.query('commit')
  } catch (error) {
    const { id } = rows[0]!
    if (id === null || isRefusal(error)) throw error
    const status = await statusOf(access, database, id)
    if (status === 'committed') return
    if (status === 'aborted') throw error
    throw unknown(access, database, error)
  }
}

async function statusOf(access: PostgresAccess, database: string, id: string): Promise<string | null> {
  const until = Date.now() + ASK_FOR_MS
  for (;;) {
    const client = await connect(access, database).catch(() => null)
    if (client) {
      try {
        const { rows } = await client.query<{ status: string | null }>('select pg_xact_status($1::xid8) as status', [id])
        // A server that has not noticed the broken connection yet may still be at it.
        if (rows[0]!.status !== 'in progress') return rows[0]!.status
      } catch {
        // It is asked again.
      } finally {
        await client.end().catch(() => undefined)
      }
    }
    if (Date.now() >= until) return null
    await new Promise((resolve) => setTimeout(resolve, 300))
  }
}

const unknown = (access: PostgresAccess, database: string, cause: unknown) =>
  new VesselError('outcome_unknown', {
    what: `The connection to ${access.name} broke while ${database} was told to commit, and it could not be asked whether it did.`,
    touched: 'It is not known: either all of it was changed, or nothing.',
    next: 'When the server answers again, look at it; bringing it back once more does no harm.',
    cause,
  })
