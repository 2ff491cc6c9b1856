import pg from 'pg'
import { positionOf } from '../core/chain/position'
import type { Random } from './random'

/** Rows by key, as COPY writes them. */
type Rows = Map<string, string>
export type State = Map<string, Rows>

interface Change {
  table: string
  key: string
  row: string | null
}

export const TABLES = ['account', 'entry', 'stock', 'mark']
export const SCHEMA_SQL = `
  create schema app; create schema back;
  create table app.account (id int primary key, v text, n int);
  create table app.entry (id int primary key, v text, n int);
  create table app.stock (id int primary key, v text, n int);
  create table app.mark (id int primary key);`

/**
 * The application whose data is protected: one writer, who remembers what each of its transactions did. A table of
 * marks holds the number of each transaction, so that any state tells which transactions it should consist of.
 */
export class Application {
  private client: pg.Client | null = null
  private next = 1
  /** What each transaction did, and where the log stood when it was over. */
  private readonly history: { changes: Change[]; after: bigint }[] = []
  private readonly now: State = new Map(TABLES.map((table) => [table, new Map()]))
  private stopped = false
  private working: Promise<void> = Promise.resolve()

  constructor(
    private readonly url: string,
    private readonly random: Random,
  ) {}

  start(): void {
    this.working = this.work()
  }

  async stop(): Promise<void> {
    this.stopped = true
    await this.working
    await this.client?.end().catch(() => undefined)
  }

  private async work(): Promise<void> {
    while (!this.stopped) {
      try {
        await this.transaction()
        await pause(this.random.below(60))
      } catch {
        // The server is away, or was while it committed: whether that came about, the marks tell.
        await this.client?.end().catch(() => undefined)
        this.client = null
        await pause(200)
      }
    }
  }

  private async connected(): Promise<pg.Client> {
    if (this.client) return this.client
    const client = new pg.Client({ connectionString: this.url, application_name: 'the application', query_timeout: 20_000 })
    client.on('error', () => undefined)
    await client.connect()
    this.client = client
    return client
  }

  /** A transaction whose answer was lost is asked for before the next one. */
  private pending: Change[] | null = null

  private async transaction(): Promise<void> {
    const client = await this.connected()
    if (this.pending) {
      const { rows } = await client.query('select 1 from app.mark where id = $1', [this.next])
      if (rows.length > 0) await this.committed(client, this.pending)
      this.pending = null
    }
    const { sql, changes } = this.invent()
    this.pending = changes
    await client.query(`begin; ${sql}; commit`)
    await this.committed(client, changes)
    this.pending = null
  }

  private async committed(client: pg.Client, changes: Change[]): Promise<void> {
    const { rows } = await client.query<{ at: string }>('select pg_current_wal_insert_lsn()::text as at')
    this.history.push({ changes, after: positionOf(rows[0]!.at)! })
    for (const change of changes) apply(this.now, change)
    this.next++
  }

  private invent(): { sql: string; changes: Change[] } {
    const mark = String(this.next)
    const changes: Change[] = [{ table: 'mark', key: mark, row: mark }]
    const sql = [`insert into app.mark values (${mark})`]
    const touched = new Set<string>()
    for (let i = this.random.below(this.random.below(20) === 0 ? 200 : 8); i >= 0; i--) {
      const table = this.random.of(TABLES.slice(0, 3))
      const key = String(this.random.below(400))
      if (touched.has(`${table} ${key}`)) continue
      touched.add(`${table} ${key}`)
      const is = this.now.get(table)!.has(key)
      if (is && this.random.below(3) === 0) {
        sql.push(`delete from app.${table} where id = ${key}`)
        changes.push({ table, key, row: null })
        continue
      }
      const value = `v${this.random.below(1e9)}`.padEnd(this.random.below(40), '-')
      const n = this.random.below(1000)
      sql.push(
        is
          ? `update app.${table} set v = '${value}', n = ${n} where id = ${key}`
          : `insert into app.${table} values (${key}, '${value}', ${n})`,
      )
      changes.push({ table, key, row: `${key}\t${value}\t${n}` })
    }
    return { sql: sql.join('; '), changes }
  }

  get transactions(): number {
    return this.history.length
  }

  /** Somewhere in what was done, as a position of the log. */
  moment(random: Random, from: bigint): bigint | null {
    const later = this.history.filter(({ after }) => after > from)
    return later.length === 0 ? null : random.of(later).after
  }

  /**
   * What is wrong with a state that should be that of a position; null when it is right. Between two transactions the
   * position of a commit is not known to the byte, so that the state may hold the one that ends after the position.
   */
  wrongAt(position: bigint, found: State): string | null {
    const marks = [...found.get('mark')!.keys()].map(Number)
    const count = Math.max(0, ...marks)
    const sure = this.history.filter(({ after }) => after <= position).length
    if (count < sure || count > sure + 1) return `it holds ${count} transactions, of ${sure} or one more`
    const should: State = new Map(TABLES.map((table) => [table, new Map()]))
    for (const { changes } of this.history.slice(0, count)) for (const change of changes) apply(should, change)
    for (const table of TABLES) {
      const [is, was] = [[...found.get(table)!.values()].sort(), [...should.get(table)!.values()].sort()]
      if (is.join('\n') !== was.join('\n')) return `${table}: ${is.length} rows for ${was.length}, after transaction ${count}`
    }
    return null
  }
}

function apply(state: State, { table, key, row }: Change): void {
  if (row === null) state.get(table)!.delete(key)
  else state.get(table)!.set(key, row)
}

export const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms))
