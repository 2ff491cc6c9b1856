import type { DatabaseManifest, LargeObjectsManifest, Manifest, OtherThing, TableManifest } from '../../../core/content/manifest'
import { isKnownByName } from '../../../core/restore/kinds'
import { rulesNaming, select, takesFrom } from '../../../core/selection/rules'
import { isSelectable, largeObjectsPath, pathOf } from '../../../core/things/thing'
import type { CaptureJob } from '../source'
import { captureError, captureTable, DatabaseCapture, type Earlier } from './capture'
import { withClient, type PostgresAccess } from './connect'
import type { DescribedTable } from './describe'
import { databasesOf, serverOf } from './probe'

interface TableStep {
  table: DescribedTable
  path: string
  ordinal: number
}

/** Captures everything of a server that the rules take: one moment for each database, all of them close together. */
export async function captureServer(access: PostgresAccess, job: CaptureJob): Promise<Manifest> {
  const server = await withClient(access, undefined, serverOf)
  const found = await withClient(access, undefined, databasesOf)
  const names = found.map(({ name }) => name).filter((name) => takesFrom(job.rules, access.name, name))
  const captures: CaptureOfDatabase[] = []
  const databases: DatabaseManifest[] = []
  try {
    for (const name of names) captures.push(await CaptureOfDatabase.prepare(access, name, job))
    await job.moment.reached()
    for (const capture of captures) await capture.take()
    await job.moment.taken()
    for (const capture of captures) databases.push(await capture.finish())
  } finally {
    for (const capture of captures) await capture.close()
  }
  return { format: 1, kind: 'full', member: access.name, server, databases }
}

class CaptureOfDatabase {
  private readonly member: string
  private exact: Awaited<ReturnType<CaptureJob['snapshot']>> = null
  private snapshotStep = 0
  private structureStep = 0

  private constructor(
    private readonly access: PostgresAccess,
    private readonly database: string,
    private readonly job: CaptureJob,
    private readonly earlier: Earlier,
    private readonly capture: DatabaseCapture,
  ) {
    this.member = `${access.name} / ${database}`
  }

  static async prepare(access: PostgresAccess, database: string, job: CaptureJob): Promise<CaptureOfDatabase> {
    const { progress } = job
    const capture = await DatabaseCapture.prepare(access, database, progress.signal)
    const part = new CaptureOfDatabase(access, database, job, await job.earlier(database), capture)
    part.snapshotStep = await progress.plan({ kind: 'snapshot', member: part.member, title: 'Snapshot' })
    part.structureStep = await progress.plan({ kind: 'structure', member: part.member, title: 'Structure' })
    return part
  }

  /** The moment: nothing of it takes longer than the server needs. */
  async take(): Promise<void> {
    const { progress, moment } = this.job
    await this.translating(() =>
      progress.step(this.snapshotStep, async () => {
        const from = Date.now()
        this.exact = await this.job.snapshot(this.database)
        await this.capture.take(this.exact)
        moment.captured(pathOf(this.access.name, this.database), from, Date.now())
      }),
    )
  }

  finish(): Promise<DatabaseManifest> {
    const { capture } = this
    return this.translating(async () => {
      const { tables, taken } = await this.choose()
      const steps = await this.planTables(capture, tables)
      const entries = await this.job.progress.step(this.structureStep, async (count) => {
        const entries = await capture.structure()
        count('structures', entries.length)
        return entries
      })
      const manifests = await this.readTables(capture, steps)
      const manifest = await capture.finish(entries, manifests, await this.largeObjects(capture, taken))
      return { ...manifest, others: manifest.others.filter((other) => this.takes(other, taken)) }
    })
  }

  /** What there was at the moment, and what the rules take of it. */
  private async choose(): Promise<{ tables: DescribedTable[]; taken: Set<string> }> {
    const { capture } = this
    const { progress, rules } = this.job
    await capture.look()
    const taken = new Set(select(rules, capture.things).taken.map((thing) => thing.path))
    await this.sayWhatIsGone(capture, taken)
    const tables = await capture.secure(taken)
    await capture.limits(taken)
    for (const { path, reason, note } of capture.missing)
      await progress.say(note ? 'info' : 'warning', `${path} is not${note ? ' wholly' : ''} covered. ${reason}`)
    return { tables, taken }
  }

  private async translating<T>(work: () => Promise<T>): Promise<T> {
    try {
      return await work()
    } catch (error) {
      throw captureError(error, this.access, this.database)
    }
  }

  async close(): Promise<void> {
    await this.capture.close()
    await this.exact?.close()
  }

  /** What discovery does not find by itself is taken by the rules all the same. */
  private takes({ path, kind }: OtherThing, taken: Set<string>): boolean {
    if (taken.has(path) || !isSelectable(path)) return true
    return !isKnownByName(kind) && rulesNaming(this.job.rules, path).at(-1)?.act === 'take'
  }

  /** Large objects are in no schema, so they come with a database that is taken whole. */
  private async largeObjects(capture: DatabaseCapture, taken: Set<string>): Promise<LargeObjectsManifest | null> {
    const path = largeObjectsPath(this.access.name, this.database)
    if (!taken.has(path)) return null
    const ordinal = await this.job.progress.plan({ kind: 'large-objects', member: this.member, title: 'Large objects' })
    return this.job.progress.step(ordinal, (count) =>
      capture.largeObjects(
        path,
        this.job.writer,
        (rows, bytes, stored) => (count('rows', rows), count('bytes', bytes), count('stored', stored)),
      ),
    )
  }

  private async sayWhatIsGone(capture: DatabaseCapture, taken: Set<string>): Promise<void> {
    const { progress, rules } = this.job
    const before = this.earlier?.tables.filter((table) => !capture.tables.some((now) => capture.pathOf(now) === table.path)) ?? []
    const wanted = select(
      rules,
      before.map(({ path }) => ({ path, kind: 'table' as const, labels: {}, facts: {} })),
    ).taken
    for (const { path } of wanted) await progress.say('warning', `${path} is gone since the last point, which still holds it.`)
    if (taken.size === 0) await progress.say('warning', 'The rules take nothing here now.')
  }

  /** A step for each table with rows of its own, the heaviest first, so that no reader is left with it alone at the end. */
  private async planTables(capture: DatabaseCapture, tables: DescribedTable[]): Promise<TableStep[]> {
    const { progress } = this.job
    const before = new Map(this.earlier?.tables.map((table) => [table.path, table]))
    const steps: TableStep[] = []
    for (const table of [...tables].sort((a, b) => b.bytes - a.bytes)) {
      const path = capture.pathOf(table)
      const title = `${table.schema}.${table.name}`
      const ordinal = table.structure.kind === 'table' ? await progress.plan({ kind: 'table', member: this.member, title }) : -1
      steps.push({ table, path, ordinal })
      // What was counted last time is closer than the server's estimate.
      const { rows, bytes } = before.get(path) ?? table
      progress.expect('rows', rows)
      progress.expect('bytes', bytes)
    }
    return steps
  }

  private async readTables(capture: DatabaseCapture, steps: TableStep[]): Promise<TableManifest[]> {
    const { progress } = this.job
    const manifests: TableManifest[] = []
    const queue = [...steps]
    const failures = new AbortController()
    const signal = AbortSignal.any([progress.signal, failures.signal])
    const readers = Math.max(1, Math.min(this.job.readers, queue.length))
    const outcomes = await Promise.allSettled(
      Array.from({ length: readers }, async () => {
        const client = await capture.reader()
        try {
          for (let step = queue.shift(); step; step = queue.shift()) manifests.push(await this.readTable(client, step, signal))
        } catch (error) {
          // One reader that fails stops the others: there is no point without this table.
          failures.abort(error)
          throw error
        } finally {
          await client.end().catch(() => undefined)
        }
      }),
    )
    progress.signal.throwIfAborted()
    const failed = outcomes.find((outcome) => outcome.status === 'rejected')
    if (failed) throw failures.signal.reason ?? failed.reason
    return manifests.sort((a, b) => (a.path < b.path ? -1 : 1))
  }

  private readTable(
    client: Awaited<ReturnType<DatabaseCapture['reader']>>,
    { table, path, ordinal }: TableStep,
    signal: AbortSignal,
  ): Promise<TableManifest> {
    const { progress, writer } = this.job
    const read = (moved: (rows: number, bytes: number, stored: number) => void) =>
      captureTable(client, table, path, writer, { earlier: this.earlier, signal, moved })
    if (ordinal < 0) return read(() => undefined)
    return progress.step(ordinal, (count) =>
      read((rows, bytes, stored) => {
        count('rows', rows)
        count('bytes', bytes)
        count('stored', stored)
      }),
    )
  }
}
