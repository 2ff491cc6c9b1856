import type pg from 'pg'
import { tryAgain } from '../../try-again'

/** How long a restore tries to get the locks of what it writes to. */
export const LOCK_PATIENCE_MS = 15_000

/** Whether somebody else held a lock that we would not wait for, or we gave way in a deadlock. */
export const isHeld = (error: unknown): boolean => ['55P03', '40P01'].includes((error as { code?: string } | null)?.code ?? '')

const pause = () => new Promise((resolve) => setTimeout(resolve, 100 + Math.random() * 200))

/**
 * Takes locks inside the caller's transaction, all together. While one of them is held by somebody else none is kept,
 * so that nobody ever waits for us while we wait for him; then it is tried again, for `patienceMs` at most. Returns
 * what could not be locked, with the server's error; everything else is locked.
 *
 * @param statementOf the statement that takes one lock
 */
export async function lockTogether<T>(
  client: pg.Client,
  items: T[],
  statementOf: (item: T) => string,
  patienceMs: number,
): Promise<Map<T, Error>> {
  const failed = new Map<T, Error>()
  const until = Date.now() + patienceMs
  for (;;) {
    await client.query('savepoint together')
    const held = await lockEach(
      client,
      items.filter((item) => !failed.has(item)),
      statementOf,
      failed,
    )
    if (held === null) {
      await client.query('release savepoint together')
      return failed
    }
    await client.query('rollback to savepoint together')
    if (Date.now() >= until) failed.set(held.item, held.error)
    else await pause()
  }
}

/** Takes one lock after the other until one is held by somebody; what fails for another reason goes to `failed`. */
async function lockEach<T>(
  client: pg.Client,
  items: T[],
  statementOf: (item: T) => string,
  failed: Map<T, Error>,
): Promise<{ item: T; error: Error } | null> {
  for (const item of items) {
    await client.query('savepoint one')
    try {
      await client.query(statementOf(item))
      await client.query('release savepoint one')
    } catch (thrown) {
      const error = thrown as Error
      await client.query('rollback to savepoint one')
      if (isHeld(error)) return { item, error }
      failed.set(item, error)
    }
  }
  return null
}

/** The same where all of them are needed. @throws the server's error for the first one that is not given */
export async function lockAll(client: pg.Client, statements: string[], patienceMs = LOCK_PATIENCE_MS): Promise<void> {
  const failed = await lockTogether(client, statements, (statement) => statement, patienceMs)
  for (const error of failed.values()) throw error
}

/** Does work that waits for locks only briefly again and again, until it gets them or `patienceMs` are over. */
export const untilGiven = <T>(work: () => Promise<T>, patienceMs = LOCK_PATIENCE_MS): Promise<T> =>
  tryAgain(work, { isWorth: isHeld, pause, patienceMs })
