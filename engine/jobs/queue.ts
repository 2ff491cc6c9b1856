import { CompiledQuery, sql } from 'kysely'
import PgBoss from 'pg-boss'
import type { CatalogDb } from '../catalog/connect'
import type { RunKind } from '../catalog/types'

const RUNS = 'runs'
/** What somebody waits for goes before backups, and those before what only looks after stores. */
const PRIORITY: Partial<Record<RunKind, number>> = { restore: 2, undo: 2, verify: 0, reindex: 0, prune: 0 }
const priorityOf = (kind: RunKind) => PRIORITY[kind] ?? 1

/** A run is begun by one job; a failure is on its record, and a person decides what comes of it. */
const ONCE = { retryLimit: 0, expireInHours: 23 }
const LATER_S = 2
/** A run is begun within this time after its job was taken, or whoever took it is gone. */
const TAKEN_S = 60

/**
 * The queue of runs, kept in the catalog's database. Work is claimed by one worker only; a run that fails is
 * on record and is not tried again by itself, because a person decides that.
 */
export class RunQueue {
  private readonly boss: PgBoss
  private isStopping = false

  constructor(connectionString: string) {
    this.boss = new PgBoss({ connectionString, application_name: 'unbroken-vessel queue', max: 4 })
    this.boss.on('error', (error) => console.warn(`queue: ${error.message}`))
  }

  async start(): Promise<void> {
    await this.boss.start()
    await this.boss.createQueue(RUNS)
  }

  /** Within the transaction that records the run: there is none without a job, nor the other way round. */
  async add(tx: CatalogDb, runId: string, kind: RunKind): Promise<void> {
    const db = { executeSql: (text: string, values: unknown[]) => tx.executeQuery(CompiledQuery.raw(text, values)) }
    const priority = priorityOf(kind)
    await this.boss.send(RUNS, { runId, priority }, { ...ONCE, priority, db: db as PgBoss.Db })
  }

  /**
   * Queues runs that wait and have no job any more: the worker that took theirs was gone before it had begun them. One
   * that is queued twice is begun once.
   */
  async addLost(db: CatalogDb): Promise<void> {
    await db.transaction().execute(async (tx) => {
      const { rows } = await sql<{ id: string; kind: RunKind }>`select id, kind from run where state = 'waiting' and not exists (
        select from pgboss.job where name = ${RUNS} and data ->> 'runId' = run.id::text
        and (job.state in ('created', 'retry') or job.state = 'active' and started_on > now() - make_interval(secs => ${TAKEN_S})))`.execute(
        tx,
      )
      for (const { id, kind } of rows) await this.add(tx, id, kind)
    })
  }

  /** Takes up to `parallel` runs at a time. What can't begin yet comes again, to whichever worker is free then. */
  async work(parallel: number, perform: (runId: string) => Promise<'over' | 'later'>): Promise<void> {
    for (let i = 0; i < parallel; i++) {
      await this.boss.work<{ runId: string; priority: number }>(RUNS, { pollingIntervalSeconds: 0.5 }, async ([job]) => {
        if (!job) return
        // It may have been fetched just when this worker was told to stop.
        if (this.isStopping || (await perform(job.data.runId)) === 'later')
          await this.boss.send(RUNS, job.data, { ...ONCE, priority: job.data.priority, startAfter: LATER_S })
      })
    }
  }

  /** Takes no more, and waits until what is being done is over, or the time is. */
  async stop(withinMs: number): Promise<void> {
    this.isStopping = true
    await this.boss.stop({ graceful: true, timeout: withinMs })
  }
}
