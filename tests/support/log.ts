import { expect } from 'vitest'
import { refAtPosition } from '../../core/chain/moment-ref'
import { linesOf } from '../../core/compare/rows'
import { defaultLog, type LogPlan } from '../../core/plan/definition'
import type { Vessel } from '../../engine/catalog/vessels'
import type { LogSupervisor } from '../../engine/log/supervisor'
import { waitForLog } from '../../engine/log/wait'
import { noRows, openPoint, rowsOf } from '../../engine/points/open'
import { Workbench } from './engine'

/** What a table held at a moment: its rows as COPY text, sorted. */
export interface Moment {
  position: string
  at: Date
  tables: Record<string, string[]>
}

/** A vessel whose log is followed, in this process. */
export class LogBench {
  supervisor: LogSupervisor | null = null

  private constructor(
    readonly bench: Workbench,
    readonly vessel: Vessel,
  ) {}

  static async open(sql: string, plan: Partial<LogPlan> = {}): Promise<LogBench> {
    const bench = await Workbench.open(sql)
    return new LogBench(bench, await bench.vessel('Bookings', undefined, 2, { ...defaultLog(true), ...plan }))
  }

  get member(): string {
    return this.bench.path()
  }

  follow(runAgainMs = 500): void {
    if (this.supervisor) throw new Error('it is followed already')
    this.supervisor = this.bench.engine.followLogs(runAgainMs)
  }

  async unfollow(): Promise<void> {
    await this.supervisor?.close()
    this.supervisor = null
  }

  row() {
    return this.bench.engine.db.selectFrom('follower').selectAll().where('vessel_id', '=', this.vessel.id).executeTakeFirstOrThrow()
  }

  breaks() {
    return this.bench.engine.db.selectFrom('chain_break').selectAll().where('vessel_id', '=', this.vessel.id).orderBy('at').execute()
  }

  segments() {
    return this.bench.engine.db
      .selectFrom('artifact')
      .selectAll()
      .where('vessel_id', '=', this.vessel.id)
      .where('kind', '=', 'log')
      .orderBy('at')
      .execute()
  }

  position(): string {
    return this.bench.sql('select pg_current_wal_insert_lsn()')
  }

  /** Everything that was done so far is in the store. */
  async flush(): Promise<string> {
    // What was inserted last may not be written yet; a commit writes it.
    const isBehind = 'pg_current_wal_lsn() < pg_current_wal_insert_lsn()'
    this.bench.sql(`select pg_logical_emit_message(true, 'flush', '') where ${isBehind}`)
    const position = this.bench.sql('select pg_current_wal_lsn()')
    await waitForLog(this.bench.engine, this.vessel.id, this.member, position, new AbortController().signal)
    return position
  }

  /** The source as it is now; nobody else may be writing. */
  moment(...tables: string[]): Moment {
    const found: Moment['tables'] = {}
    for (const table of tables) found[table] = this.rows(table)
    return { position: this.position(), at: new Date(), tables: found }
  }

  rows(table: string): string[] {
    return this.bench.sql(`set timezone = 'UTC'; set extra_float_digits = 3; copy ${table} to stdout`).split('\n').filter(Boolean).sort()
  }

  ref({ position }: { position: string }): string {
    return refAtPosition(this.vessel.slug, 'db', position)
  }

  /** The rows of a table at a moment, as they would be restored; its count and fingerprint are checked on the way. */
  async rowsAt(ref: string, table: string): Promise<string[]> {
    const path = this.bench.path(...table.split('.'))
    const point = await openPoint(this.bench.engine, ref, rowsOf(path))
    const found = point.members[0]!.manifest.databases[0]!.tables.find((candidate) => candidate.path === path)
    if (!found) throw new Error(`${table} is not at this moment: ${JSON.stringify(point.members[0]!.manifest.databases[0]!.missing)}`)
    const chunks: Uint8Array[] = []
    for await (const bytes of point.store.readAll(found.chunks.map(({ name }) => name))) chunks.push(bytes)
    const { tallyRows } = await import('../../core/content/rows')
    expect(tallyRows(chunks)).toEqual({ rows: found.rows, bytes: found.bytes, fingerprint: found.fingerprint })
    return [...linesOf(chunks)].sort()
  }

  /** The state at a moment is what the source was then, table by table. */
  async holds(moment: Moment): Promise<void> {
    for (const [table, rows] of Object.entries(moment.tables)) {
      const found = await this.rowsAt(this.ref(moment), table)
      const only = (some: string[], others: Set<string>) => some.filter((row) => !others.has(row)).slice(0, 5)
      const summary = { table, rows: found.length, lost: only(rows, new Set(found)), more: only(found, new Set(rows)) }
      expect(summary).toEqual({ table, rows: rows.length, lost: [], more: [] })
      expect(found).toEqual(rows)
    }
  }

  /** Where the source does not tell when a table changed, that is said of a moment that may lie before it or after it, or of all tables where nobody looked since. */
  async isTold(moment: Pick<Moment, 'position'>, table: string): Promise<boolean> {
    const { manifest } = (await openPoint(this.bench.engine, this.ref(moment), noRows)).members[0]!
    const path = this.bench.path(...table.split('.'))
    return manifest.databases[0]!.missing.some(
      (lack) => `${path}/`.startsWith(`${lack.path}/`) && lack.reason.includes('does not tell when'),
    )
  }

  async close(): Promise<void> {
    await this.unfollow()
    const row = await this.row().catch(() => null)
    await this.bench.close()
    // Slots are the server's, not the database's, and there are few of them.
    if (row)
      this.bench.server.psql(
        'postgres',
        `select pg_terminate_backend(active_pid) from pg_replication_slots where slot_name = '${row.slot}' and active_pid is not null; select pg_drop_replication_slot(slot_name) from pg_replication_slots where slot_name = '${row.slot}'`,
      )
  }
}
