import { EventEmitter } from 'node:events'
import pg from 'pg'
import { sql } from 'kysely'
import type { CatalogDb } from './catalog/connect'

/** What travels to the interface when something changes. Small: the interface asks for the rest. */
export type Change =
  | { about: 'run'; id: string; vessel: string; state: string }
  | { about: 'hold'; run: string }
  | { about: 'things' }
  | { about: 'vessel'; id: string }
  | { about: 'store' }
  | { about: 'log'; vessel: string; member: string }
  | { about: 'loss'; vessel: string }
  | { about: 'flush'; vessel: string; member: string }
  | { about: 'scratch'; id: string }
  | { about: 'export'; id: string; rows: number; of: number; over: boolean }

const CHANNEL = 'unbroken_vessel'

export async function notify(db: CatalogDb, change: Change): Promise<void> {
  await sql`select pg_notify(${CHANNEL}, ${JSON.stringify(change)})`.execute(db)
}

/**
 * Listens for changes from every process on the catalog. Connects again when the catalog was restarted, and
 * emits `again` then, because changes may have been missed.
 */
export class ChangeListener extends EventEmitter<{ change: [Change]; again: [] }> {
  private client: pg.Client | undefined
  private closed = false

  constructor(private readonly connectionString: string) {
    super()
    this.setMaxListeners(0)
  }

  async start(): Promise<void> {
    const client = new pg.Client({ connectionString: this.connectionString, application_name: 'unbroken-vessel changes' })
    client.on('notification', ({ payload }) => payload && this.emit('change', JSON.parse(payload) as Change))
    const lost = () => {
      if (this.client !== client) return
      this.client = undefined
      if (!this.closed) setTimeout(() => void this.reconnect(), 1000).unref()
    }
    // A connection that breaks may tell of it more than once.
    client.on('error', lost)
    await client.connect()
    await client.query(`listen ${CHANNEL}`)
    this.client = client
  }

  private async reconnect(): Promise<void> {
    if (this.closed || this.client) return
    try {
      await this.start()
      this.emit('again')
    } catch {
      setTimeout(() => void this.reconnect(), 1000).unref()
    }
  }

  async close(): Promise<void> {
    this.closed = true
    await this.client?.end().catch(() => undefined)
  }
}
