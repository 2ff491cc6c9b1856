import pg from 'pg'
import { quoteLiteral } from '../../../core/restore/sql'
import { fillIn, type StepValues } from '../../../core/quiesce/values'
import type { ActJob, ActResult, HeldSession, Holder } from '../source'
import { connect, withClient, type PostgresAccess } from './connect'

const ROWS_SHOWN = 20
const CANCEL_GRACE_MS = 500

/** Holds of a database: statements in a session that stays open, and that the server itself ends when we are silent. */
export function postgresHolder(access: PostgresAccess): Holder {
  return {
    place: async (_, act) => ({ act }),
    perform: async (job) => {
      const session = await SqlSession.open(access, job)
      const result = await session.perform(job).catch(async (error: unknown) => {
        await session.close()
        throw error
      })
      if (result.failure === null) return { ...result, session }
      await session.close()
      return result
    },
    endSession: (place, mark) =>
      withClient(access, place, async (client) => {
        await client.query('select pg_terminate_backend(pid, 5000) from pg_catalog.pg_stat_activity where application_name = $1', [mark])
      }),
  }
}

class SqlSession implements HeldSession {
  isOpen = true

  private constructor(private readonly client: pg.Client) {
    client.on('end', () => (this.isOpen = false))
    client.on('error', () => (this.isOpen = false))
  }

  static async open(access: PostgresAccess, { place, mark, holdMs }: ActJob): Promise<SqlSession> {
    const client = await connect(access, place)
    const { rows } = await client.query<{ version: number }>(`select current_setting('server_version_num')::int as version`)
    const silence = Math.round(holdMs)
    // A session that nobody speaks to any more is ended by the server, with everything that it holds.
    const settings = [
      `application_name = ${quoteLiteral(mark)}`,
      `idle_in_transaction_session_timeout = ${silence}`,
      ...(rows[0]!.version >= 140000 ? [`idle_session_timeout = ${silence}`] : []),
      'search_path to default',
      'row_security to default',
    ]
    await client.query(settings.map((setting) => `set ${setting}`).join('; '))
    return new SqlSession(client)
  }

  async perform({ placed: { act }, values, limitMs }: ActJob): Promise<ActResult> {
    if (act.kind !== 'sql') throw new Error('not an act of a database')
    const { text, missing } = fillIn(act.statement, values, quoteLiteral)
    if (missing) return failed(`The value ${missing} was not returned.`)
    const limit = Math.max(1, Math.round(limitMs))
    try {
      await this.client.query(`set statement_timeout = ${limit}; set lock_timeout = ${limit}`)
      // Several statements at once end at the sum of their times at the latest.
      const results = await within(this.client, this.client.query(text) as Promise<unknown>, limit + CANCEL_GRACE_MS)
      await this.client.query('set statement_timeout = 0')
      const all = (Array.isArray(results) ? results : [results]) as pg.QueryResult<Record<string, unknown>>[]
      return { ...outputOf(all), failure: null }
    } catch (error) {
      const { code, message } = error as { code?: string; message: string }
      if (code === '57014' || code === '55P03') return failed(`It was not done within ${limitMs / 1000} s: ${message}.`)
      return failed(`The server answered: ${message}.`)
    }
  }

  async close(): Promise<void> {
    this.isOpen = false
    await this.client.end().catch(() => undefined)
  }
}

const failed = (failure: string): ActResult => ({ output: '', values: {}, failure })

async function within<T>(client: pg.Client, work: Promise<T>, ms: number): Promise<T> {
  let timer: NodeJS.Timeout | undefined
  const late = new Promise<never>((_, reject) => {
    timer = setTimeout(() => {
      reject(Object.assign(new Error('the statements took too long together'), { code: '57014' }))
      void client.end().catch(() => undefined)
    }, ms)
  })
  try {
    return await Promise.race([work, late])
  } finally {
    clearTimeout(timer)
    work.catch(() => undefined)
  }
}

/** The columns of the first row of the last statement that gave any are its values. */
function outputOf(results: pg.QueryResult<Record<string, unknown>>[]): { output: string; values: StepValues } {
  const values: StepValues = {}
  const lines: string[] = []
  for (const { command, rowCount, rows, fields } of results) {
    if (!fields || fields.length === 0) {
      if (command) lines.push(rowCount === null ? command : `${command} ${rowCount}`)
      continue
    }
    for (const row of rows.slice(0, ROWS_SHOWN)) lines.push(fields.map(({ name }) => `${name}=${String(row[name])}`).join(' '))
    if (rows.length > ROWS_SHOWN) lines.push(`and ${rows.length - ROWS_SHOWN} rows more`)
    for (const { name } of fields) if (rows[0] && rows[0][name] !== null) values[name] = String(rows[0][name])
  }
  return { output: lines.join('\n'), values }
}
