import type pg from 'pg'
import { quoteIdentifier } from '../../../core/restore/sql'

/** Everything of ours at a source has a name that begins so. */
export const OURS = 'unbroken_vessel'
/** Transactions of restores and undos say so in the log with this. */
export const OWN = `${OURS}_own`

/** An event trigger of the application, and how it is switched on. */
export interface EventTrigger {
  name: string
  /** `O` as most are, `A` always, `R` as a replica. */
  enabled: 'O' | 'A' | 'R'
}

/** Event triggers of a database that would fire for what we do there; our own are not among them. */
export async function eventTriggersOf(client: pg.Client): Promise<EventTrigger[]> {
  const { rows } = await client.query<EventTrigger>(
    `select evtname as name, evtenabled::text as enabled from pg_catalog.pg_event_trigger
     where evtenabled <> 'D' and evtname not like $1 order by evtname`,
    [`${OURS.replaceAll('_', '\\_')}\\_%`],
  )
  return rows
}

/** Whether the role of a connection may do everything. */
export async function isSuperuser(client: pg.Client): Promise<boolean> {
  const { rows } = await client.query<{ super: boolean }>(`select rolsuper as super from pg_catalog.pg_roles where rolname = current_user`)
  return rows[0]!.super
}

/** How a trigger or rule is switched on, by how the catalog has it. */
export const ENABLE: Record<string, string> = { O: 'enable', A: 'enable always', R: 'enable replica', D: 'disable' }

/**
 * Switches the event triggers of the application off until the transaction ends, and returns what switches them on
 * again. No other session ever sees them off, because that is never committed; no statement about event triggers
 * fires any. Only a superuser may do it; for others they fire all the same, which the plan tells before.
 *
 * The caller is inside a transaction.
 */
export async function silence(client: pg.Client): Promise<() => Promise<void>> {
  const found = await eventTriggersOf(client)
  if (found.length === 0 || !(await isSuperuser(client))) return async () => undefined
  const alter = async (what: (trigger: EventTrigger) => string) => {
    for (const trigger of found) await client.query(`alter event trigger ${quoteIdentifier(trigger.name)} ${what(trigger)}`)
  }
  await alter(() => 'disable')
  return () => alter(({ enabled }) => ENABLE[enabled]!)
}

/** Does work in a transaction of its own of which event triggers of the application see nothing. */
export async function quietly<T>(client: pg.Client, work: () => Promise<T>): Promise<T> {
  await client.query('begin')
  try {
    // With the locks that it holds it waits for no standby that may be away.
    await client.query('set local synchronous_commit = local')
    const restore = await silence(client)
    const result = await work()
    await restore()
    await client.query('commit')
    return result
  } catch (error) {
    await client.query('rollback').catch(() => undefined)
    throw error
  }
}
