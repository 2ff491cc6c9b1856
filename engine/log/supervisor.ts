import { errorRecord, VesselError } from '../../core/errors'
import { auditOf, isAuditHour, logOf } from '../../core/plan/definition'
import { measured } from '../../core/plan/fill'
import { takesFrom } from '../../core/selection/rules'
import { namesOf } from '../../core/things/thing'
import { bytesInWords } from '../../core/time/words'
import { laterPosition, positionOf } from '../../core/chain/position'
import { isFollowed } from '../catalog/log-types'
import { reaches } from '../catalog/source-access'
import { accessById } from '../catalog/sources'
import { everyVessel, type Vessel } from '../catalog/vessels'
import type { NewRun } from '../catalog/runs'
import type { EngineContext } from '../context'
import type { Duties } from '../jobs/duties'
import type { ChangeListener } from '../notify'
import { translate, withClient } from '../sources/postgres/connect'
import { uninstall } from '../sources/postgres/log/install'
import { dropSlot, slotState } from '../sources/postgres/log/slot'
import { freeSpace } from '../sources/postgres/space'
import { AUDIT_AGAIN_MS, tablesToAudit } from './audits'
import { followerRow, setTrouble } from './begin'
import { lateHolesOf, LogBroken, recordBreak } from './breaks'
import { Follower } from './follower'
import { Shares } from './shares'

/** How long a source may take to say how much log it keeps. */
const MEASURE_LIMIT_MS = 15_000
const LOOK_EVERY_MS = 1000
/** One of all workers sees which logs there are. */
const ROWS_FOR_MS = 3000
const MEASURE_EVERY = 5
/** One of all workers measures; a connection for it costs the source something. */
const MEASURED_FOR_MS = 4000
/** From this share of the limit on there is a warning. */
export const WARN_AT = 0.7
/** Waiting times after troubles, and after fulls and differentials that were started here and came to nothing. */
const RETRY_MS = [500, 1000, 2000, 5000, 10_000, 30_000]
const RUN_AGAIN_MS = 60_000

type Row = Awaited<ReturnType<typeof followerRow>>

interface Task {
  /** How its source is reached, as a digest. */
  reach: string
  follower: Follower | null
  stop: AbortController
  done: Promise<void>
}

export interface SupervisorContext extends EngineContext {
  changes: ChangeListener
  duties: Duties
  startRun(run: NewRun): Promise<string>
}

/**
 * Sees to it that the log of every member that wants it is followed by exactly one worker, that a break begins a
 * new full, and that no source keeps more log for us than it may.
 */
export class LogSupervisor {
  private readonly tasks = new Map<string, Task>()
  private readonly shares: Shares
  private readonly troubles = new Map<string, { count: number; until: number }>()
  private timer: NodeJS.Timeout | undefined
  private looking: Promise<void> | null = null
  /** What is being done about each log now. */
  private readonly attending = new Map<string, Promise<void>>()
  private looks = 0
  private closed = false

  constructor(
    private readonly engine: SupervisorContext,
    /** Milliseconds after which a run that was started here is tried again. */
    private readonly runAgainMs = RUN_AGAIN_MS,
  ) {
    this.shares = new Shares(engine.duties)
  }

  start(): void {
    this.timer = setInterval(() => void this.look(), LOOK_EVERY_MS)
    this.engine.changes.on('change', (change) => {
      if (change.about === 'flush') this.tasks.get(`${change.vessel} ${change.member}`)?.follower?.hurry()
      if (change.about === 'vessel') void this.look()
    })
    void this.look()
  }

  look(): Promise<void> {
    if (this.closed) return Promise.resolve()
    this.looking ??= this.lookOnce()
      .catch((error: Error) => console.warn(`logs: ${error.message}`))
      .finally(() => (this.looking = null))
    return this.looking
  }

  private async lookOnce(): Promise<void> {
    const vessels = await everyVessel(this.engine)
    if (await this.engine.duties.take('rows of logs', ROWS_FOR_MS))
      for (const vessel of vessels) if (!vessel.gone) await this.ensureRows(vessel)
    const rows = await this.engine.db.selectFrom('follower').selectAll().orderBy('vessel_id').orderBy('member').execute()
    const { mine, tooMuch } = await this.shares.followed(rows.map(keyOf), (key) => Date.now() >= (this.troubles.get(key)?.until ?? 0))
    for (const key of [...this.tasks.keys()].filter((known) => !mine.has(known))) void this.stop(key)
    // It is given up when what it held is in the store, so that whoever takes it goes on from there.
    if (tooMuch !== null) void this.handOver(tooMuch)
    const measure = this.looks++ % MEASURE_EVERY === 0
    const reach = await reaches(this.engine)
    for (const row of rows.filter((row) => mine.has(keyOf(row)) && keyOf(row) !== tooMuch)) {
      const vessel = vessels.find(({ id }) => id === row.vessel_id)!
      this.attend(row, () => (wants(vessel, row) ? this.see(vessel, row, measure, reach.get(row.source_id)!) : this.leave(vessel, row)))
      if (this.closed) return
    }
  }

  private async handOver(key: string): Promise<void> {
    await this.stop(key)
    await this.shares.giveUp(key).catch((error: Error) => console.warn(`logs: ${error.message}`))
  }

  /** Each log is seen to by itself: one whose source does not answer keeps no other waiting. */
  private attend(row: Row, work: () => Promise<void>): void {
    const key = keyOf(row)
    if (this.attending.has(key)) return
    const attending = work()
      .catch((error: Error) => console.warn(`log of ${row.member}: ${error.message}`))
      .finally(() => this.attending.delete(key))
    this.attending.set(key, attending)
  }

  /** A row for each database that a vessel takes something of, if its log is wanted. */
  private async ensureRows(vessel: Vessel): Promise<void> {
    if (!logOf(vessel.definition).follow) return
    const databases = await this.engine.db
      .selectFrom('thing')
      .innerJoin('source', 'source.id', 'thing.source_id')
      .select(['source.name as source', 'thing.path'])
      .where('thing.kind', '=', 'database')
      .where('thing.gone_at', 'is', null)
      .where((eb) =>
        eb.not(
          eb.exists(eb.selectFrom('follower').select('member').where('vessel_id', '=', vessel.id).whereRef('member', '=', 'thing.path')),
        ),
      )
      .execute()
    for (const { source, path } of databases) {
      const database = namesOf(path)[1]!
      if (takesFrom(vessel.definition.rules, source, database)) await followerRow(this.engine, vessel, source, database)
    }
  }

  private async see(vessel: Vessel, row: Row, measure: boolean, reach: string): Promise<void> {
    if (row.state === 'waiting' || row.state === 'broken') return vessel.pause ? undefined : this.startFull(vessel, row)
    if (measure) await this.measure(vessel, row)
    await this.ensureTask(vessel, row, reach)
    const mark = await newestMark(this.engine, row.vessel_id, row.member, row.era)
    // Its log goes on while a vessel is paused; no backup begins by itself.
    if (mark === null || vessel.pause) return
    if (await this.hasHole(row, mark)) return this.startFull(vessel, row)
    await this.recapture(vessel, row, mark)
    if (measure) await this.audit(vessel, row)
  }

  /** Tables are audited after their structure was changed, and each of them once a week. */
  private async audit(vessel: Vessel, row: Row): Promise<void> {
    if (row.state !== 'following' || (await this.busy(vessel.id)) || Date.now() < (this.troubles.get(`audit ${keyOf(row)}`)?.until ?? 0))
      return
    const due = await tablesToAudit(this.engine, row, isAuditHour(auditOf(logOf(vessel.definition)), this.engine.clock.now()))
    if (due.length === 0 || !this.mayTry(`audit ${keyOf(row)}`, AUDIT_AGAIN_MS)) return
    const comment = due.length === 1 ? 'A table is audited.' : `${due.length} tables are audited.`
    await this.engine.startRun({ kind: 'audit', vessel, startedBy: 'the log', comment, params: { tables: { [row.member]: due } } })
  }

  /** Whether a segment after the newest full or differential can't be read any more, or was deleted. */
  private async hasHole(row: Row, mark: string): Promise<boolean> {
    const damaged = await this.engine.db
      .selectFrom('artifact')
      .select('position')
      .where('vessel_id', '=', row.vessel_id)
      .where('member', '=', row.member)
      .where('era', '=', row.era)
      .where('kind', '=', 'log')
      .where('damaged', '=', true)
      .execute()
    if (damaged.some(({ position }) => positionOf(position)! > positionOf(mark)!)) return true
    const deleted = this.engine.db.selectFrom('chain_break').select('id').where('vessel_id', '=', row.vessel_id)
    return (
      undefined !==
      (await deleted.where('member', '=', row.member).where('kind', '=', 'deleted').where('to_at', 'is', null).executeTakeFirst())
    )
  }

  private async busy(vesselId: string): Promise<boolean> {
    const active = await this.engine.db
      .selectFrom('run')
      .select('id')
      .where('vessel_id', '=', vesselId)
      .where('kind', 'in', ['backup', 'audit'])
      .where('state', 'in', ['waiting', 'running'])
      .limit(1)
      .executeTakeFirst()
    return active !== undefined
  }

  /** Whether something that was tried and failed may be tried again. */
  private mayTry(what: string, wait: number): boolean {
    const until = this.troubles.get(what)?.until ?? 0
    if (Date.now() < until) return false
    this.troubles.set(what, { count: 0, until: Date.now() + wait })
    return true
  }

  /** A log begins with a full; after a break, a new one begins by itself. */
  private async startFull(vessel: Vessel, row: Row): Promise<void> {
    if ((await this.busy(vessel.id)) || !this.mayTry(`full ${vessel.id}`, this.runAgainMs)) return
    const begins =
      row.state === 'waiting' ? `The log of ${row.member} begins.` : `A part of the log of ${row.member} is no more, or can’t be read.`
    const comment = row.state === 'broken' && row.trouble ? `The log of ${row.member} broke: ${row.trouble.what}` : begins
    await this.engine.startRun({ kind: 'backup', vessel, startedBy: 'the log', comment, params: { what: 'full', automatic: true } })
  }

  /** Tables that could not be followed for a while are read whole by a differential. */
  private async recapture(vessel: Vessel, row: Row, mark: string): Promise<void> {
    // A source may be quiet since the log was stored, and what an audit found there lies behind its end.
    const reached = row.caught_up_position ? laterPosition(row.position!, row.caught_up_position) : row.position!
    const late = await lateHolesOf(this.engine.db, row.vessel_id, row.member, reached)
    const known = [...Object.values(row.tables), ...late.flatMap(({ tables }) => Object.values(tables))]
    const lost = known.filter(({ since, born }) => since !== null && !born && positionOf(since)! > positionOf(mark)!)
    if (lost.length === 0 || (await this.busy(vessel.id)) || !this.mayTry(`differential ${vessel.id}`, this.runAgainMs)) return
    const [first] = lost
    const comment =
      `${first!.schema}.${first!.name}${lost.length > 1 ? ` and ${lost.length - 1} more` : ''} could not be followed. ${first!.why ?? ''}`.trim()
    await this.engine.startRun({ kind: 'backup', vessel, startedBy: 'the log', comment, params: { what: 'differential', automatic: true } })
  }

  /** How much log the source keeps for us; too much is worse for it than a hole is for us. */
  private async measure(vessel: Vessel, row: Row): Promise<void> {
    if (!(await this.engine.duties.take(`measure ${keyOf(row)}`, MEASURED_FOR_MS))) return
    const { keepAtMost } = logOf(vessel.definition)
    const access = await accessById(this.engine, row.source_id)
    const looking = withClient(
      access,
      row.database,
      async (client) => ({ slot: await slotState(client, row.slot), free: await freeSpace(client, access, 'log') }),
      MEASURE_LIMIT_MS,
    )
    const { slot, free } = await looking.catch(() => ({ slot: null, free: null }))
    if (!slot) return
    if (slot.retained >= keepAtMost) {
      await this.stop(keyOf(row))
      await dropSlot(access, row.database, row.slot)
      await recordBreak(this.engine, row.vessel_id, row.member, {
        kind: 'limit',
        reason: `${access.name} kept ${bytesInWords(slot.retained)} of log for ${vessel.name}, and may keep ${bytesInWords(keepAtMost)}: its slot was given up, so that its disk does not fill.`,
        next: `See why the log could not be followed${row.trouble ? ` (${row.trouble.what})` : ''}; a new full begins a new log by itself.`,
      })
      return
    }
    await this.engine.db
      .updateTable('follower')
      .set({
        retained: slot.retained,
        behind: slot.behind,
        warned: slot.retained >= keepAtMost * WARN_AT,
        measured: JSON.stringify(measured(row.measured, Date.now(), slot.retained)),
        log_free: free,
      })
      .where('vessel_id', '=', row.vessel_id)
      .where('member', '=', row.member)
      .execute()
  }

  private async ensureTask(vessel: Vessel, row: Row, reach: string): Promise<void> {
    const key = keyOf(row)
    if ((this.tasks.get(key)?.reach ?? reach) !== reach) await this.stop(key)
    if (this.tasks.has(key) || Date.now() < (this.troubles.get(key)?.until ?? 0)) return
    const stop = new AbortController()
    const task: Task = { reach, follower: null, stop, done: Promise.resolve() }
    this.tasks.set(key, task)
    task.done = this.follow(vessel, row, task).finally(() => this.tasks.delete(key))
  }

  private async follow(vessel: Vessel, row: Row, task: Task): Promise<void> {
    const key = keyOf(row)
    try {
      // What another worker committed before it lost it is where this one begins.
      const current = await this.engine.db
        .selectFrom('follower')
        .selectAll()
        .where('vessel_id', '=', row.vessel_id)
        .where('member', '=', row.member)
        .executeTakeFirst()
      if (!current || !isFollowed(current.state)) return
      await Follower.follow(this.engine, vessel, current, task.stop.signal, (follower) => {
        task.follower = follower
        this.troubles.delete(key)
      })
    } catch (error) {
      // What ends because it is another worker's by now is not this one's to tell.
      if (!task.stop.signal.aborted)
        await this.ended(row, error).catch((failure: Error) => console.warn(`log of ${row.member}: ${failure.message}`))
    }
  }

  private async ended(row: Row, error: unknown): Promise<void> {
    const key = keyOf(row)
    if (error instanceof LogBroken) return recordBreak(this.engine, row.vessel_id, row.member, error.broken)
    const count = this.troubles.get(key)?.count ?? 0
    this.troubles.set(key, { count: count + 1, until: Date.now() + RETRY_MS[Math.min(count, RETRY_MS.length - 1)]! })
    const translated = translate(error, await accessById(this.engine, row.source_id), row.database)
    const record = errorRecord(translated)
    // Another worker may reach what this one can't.
    await this.shares.giveUp(key)
    if (record.code === 'log_taken') return
    if (!(translated instanceof VesselError)) console.warn(`log of ${row.member}: ${record.what}`)
    await setTrouble(this.engine, row.vessel_id, row.member, stalled(row, translated))
    await this.engine.db
      .updateTable('follower')
      .set({ state: 'stalled' })
      .where('vessel_id', '=', row.vessel_id)
      .where('member', '=', row.member)
      .where('state', '=', 'following')
      .execute()
  }

  private async stop(key: string): Promise<void> {
    const task = this.tasks.get(key)
    task?.stop.abort(new Error('the log is not followed any more'))
    await task?.done
  }

  /** The log is not wanted any more: nothing of ours stays at the source. */
  private async leave(vessel: Vessel, row: Row): Promise<void> {
    await this.stop(keyOf(row))
    const access = await accessById(this.engine, row.source_id)
    try {
      await dropSlot(access, row.database, row.slot)
      await withClient(access, row.database, (client) => uninstall(client, row.publication))
    } catch (error) {
      const { code } = errorRecord(error)
      // A database that is gone has taken everything with it; of a source that does not answer, it is tried again.
      if (code !== 'database_missing') return setTrouble(this.engine, row.vessel_id, row.member, error)
    }
    if (isFollowed(row.state))
      await recordBreak(this.engine, row.vessel_id, row.member, {
        kind: 'paused',
        reason: 'The log was not followed: it was switched off.',
        next: vessel.gone ? 'Its vessel was deleted.' : 'Switch it on in the definition; a new full begins it.',
      })
    await this.engine.db.deleteFrom('follower').where('vessel_id', '=', row.vessel_id).where('member', '=', row.member).execute()
  }

  async close(): Promise<void> {
    this.closed = true
    clearInterval(this.timer)
    await this.looking
    await Promise.all(this.attending.values())
    for (const key of [...this.tasks.keys()]) await this.stop(key)
    await this.shares.close().catch((error: Error) => console.warn(`logs: ${error.message}`))
  }
}

const keyOf = (row: { vessel_id: string; member: string }) => `${row.vessel_id} ${row.member}`

function wants(vessel: Vessel, row: Row): boolean {
  const [source, database] = namesOf(row.member)
  return !vessel.gone && logOf(vessel.definition).follow && takesFrom(vessel.definition.rules, source!, database!)
}

async function newestMark(engine: EngineContext, vesselId: string, member: string, era: string): Promise<string | null> {
  const row = await engine.db
    .selectFrom('artifact')
    .innerJoin('point_artifact', 'point_artifact.artifact_id', 'artifact.id')
    .innerJoin('point', 'point.id', 'point_artifact.point_id')
    .select('artifact.position')
    .where('artifact.vessel_id', '=', vesselId)
    .where('artifact.member', '=', member)
    .where('artifact.era', '=', era)
    .where('point.kept_for', 'is', null)
    .orderBy('artifact.at', 'desc')
    .limit(1)
    .executeTakeFirst()
  return row?.position ?? null
}

function stalled(row: Row, error: unknown): VesselError {
  const { what, next, code } = errorRecord(error)
  return new VesselError(code === 'internal' ? 'log_stalled' : code, {
    what,
    touched: `The source keeps its log of ${row.member} until it is followed again.`,
    next: code === 'internal' ? 'It is tried again by itself.' : next,
    cause: error,
  })
}
