import { sql } from 'kysely'
import type pg from 'pg'
import { laterPosition, positionOf } from '../../core/chain/position'
import type { HeavyTransaction, LogChunk } from '../../core/changes/log-text'
import { changedSequences, type SequenceReading } from '../../core/changes/sequences'
import type { FollowedTables, LogManifest, StructureStep } from '../../core/changes/manifest'
import type { DatabaseManifest, SequenceState } from '../../core/content/manifest'
import { errorRecord } from '../../core/errors'
import { logOf, type LogPlan } from '../../core/plan/definition'
import { accessById, discoverSource } from '../catalog/sources'
import { openStore } from '../catalog/stores'
import type { Vessel } from '../catalog/vessels'
import type { EngineContext } from '../context'
import { notify } from '../notify'
import { readJson, writeJson } from '../store/json'
import { isOfContent } from '../store/damage'
import { connect, withClient, type PostgresAccess } from '../sources/postgres/connect'
import { describeSequences } from '../sources/postgres/describe'
import { installTrigger, triggerWritten } from '../sources/postgres/log/install'
import { freeSlot } from '../sources/postgres/log/slot'
import { LogStream } from '../sources/postgres/log/stream'
import type { Store } from '../store/store'
import { ContentWriter } from '../store/writer'
import { LogBroken } from './breaks'
import { examine, type FollowerRow } from './examine'
import { LogRecorder, MARK, type Recorded } from './recorder'
import { countLost, LossFinder, recordLosses, uncounted, type NewLoss } from './losses'
import { UntoldLosses } from './untold-losses'
import { commitSegment, newSegmentId, sizeOf } from './segment'
import { quietSince } from './quiet'
import { StructureWatch, type PlacedReading, type WatchedMember } from './structure'
import { segmentsOf } from './segments'

const TICK_MS = 500
const COMPARE_EVERY = 2
/** Where the source tells of changes, what it was kept from telling is looked for. */
const COMPARE_SELDOM = 20
/** How often tables that somebody held are tried again. */
const HELD_EVERY = 20
const WRITTEN_EVERY = 60
/** How often the source is asked how many rows its tables have. */
const MEASURED_EVERY = 60
/** Chunks on their way into the store before the source has to wait. */
const IN_FLIGHT = 4
const SEGMENTS_IN_FLIGHT = 2
const SEEN = 20_000
/** How long the source may take to answer what is asked beside the log. */
const SIDE_LIMIT_MS = 30_000
/** How often the catalog is told that nothing has changed. */
const TELL_EVERY_MS = 1000
/** How long stopping may take to bring the last changes into the store. */
const SETTLE_MS = 1500

/** A segment that is being filled. */
interface Filling {
  id: string
  writer: ContentWriter
  chunks: Promise<LogChunk>[]
  since: number | null
}

/** What a segment says of the structure. */
interface StructureOfSegment {
  steps: StructureStep[]
  readings: SequenceReading[]
  placed: PlacedReading | null
  before: FollowedTables
  after: FollowedTables
  /** Whether somebody waits for it, so that it is looked what was changed up to its end. */
  awaited: boolean
  losses: NewLoss[]
}

/**
 * Follows the log of one member from where the store ends, until it is told to stop or something stands in its way.
 * The source hears that it may forget only what is durable in the store.
 */
export class Follower {
  private readonly seen = new Map<string, HeavyTransaction['by']>()
  private recorder!: LogRecorder
  private stream!: LogStream
  private watch!: StructureWatch
  private side!: pg.Client
  /** What tells of changes at the source, as it was last seen; and whether it was off while nobody followed. */
  private trigger: string | null = null
  private wasOff = false
  private asking: Promise<unknown> = Promise.resolve()
  private filling!: Filling
  private readonly losses: LossFinder
  private readonly untold: UntoldLosses
  /** What is found out of losses beside the log. */
  private counting: Promise<void> = Promise.resolve()
  private committing: Promise<void> = Promise.resolve()
  private waiting = 0
  private inFlight = 0
  private due = false
  private hurried = false
  private position: string
  private lastAt: number
  private followed: FollowedTables
  /** Changes of the structure since the last segment, and a structure whose place in the log is known by now. */
  private steps: StructureStep[] = []
  /** Sequences that have moved since the last segment, as they were read, and how all were read last. */
  private readings: SequenceReading[] = []
  private sequences: SequenceState[] = []
  private movedSince = 0
  private readSequencesAfter = 0
  private placed: PlacedReading | null = null
  private structureDue = false
  /** Whether something changed that was not read before the last follower ended. */
  private unread = false
  private failure: unknown = null
  private fail!: (error: unknown) => void
  private ticks = 0
  private compareAfter = 0
  private ticking = 0
  private certain: { position: bigint; at: Date } | null = null
  private toldAt = 0
  /** Up to here the catalog knows that nothing has changed since the last segment. */
  private toldUpTo = 0n

  /** Whether changes of the structure are noticed by looking, because the source does not tell of them. */
  private readonly looks: boolean

  private constructor(
    private readonly engine: EngineContext,
    private readonly vessel: Vessel,
    private readonly row: FollowerRow,
    private readonly access: PostgresAccess,
    private readonly store: Store,
    private readonly plan: LogPlan,
    private readonly stop: AbortSignal,
  ) {
    this.position = row.position!
    this.lastAt = row.at!.getTime()
    this.followed = row.tables
    this.looks = row.structure === 'compare'
    this.losses = new LossFinder(access.name, row.database)
    this.untold = new UntoldLosses(access.name, row.database)
  }

  /** @throws LogBroken when the log can't be gone on with, and other errors when it may be tried again */
  static async follow(
    engine: EngineContext,
    vessel: Vessel,
    row: FollowerRow,
    stop: AbortSignal,
    begun: (follower: Follower) => void,
  ): Promise<void> {
    const access = await accessById(engine, row.source_id)
    const store = await openStore(engine, { name: vessel.definition.store })
    const follower = new Follower(engine, vessel, row, access, store, logOf(vessel.definition), stop)
    await follower.go(() => begun(follower))
  }

  private async go(begun: () => void): Promise<void> {
    await examine(this.engine, this.access, this.row)
    this.side = await connect(this.access, this.row.database, SIDE_LIMIT_MS)
    this.wasOff = this.row.structure === 'trigger' && (await this.triggerWasOff())
    const failed = new Promise<never>((_, reject) => (this.fail = (error) => reject((this.failure ??= error))))
    failed.catch(() => undefined)
    const member = { ...this.row, rules: this.vessel.definition.rules, trigger: this.row.structure === 'trigger' }
    this.watch = await this.watchFrom(member)
    this.recorder = new LogRecorder(this.position, this.recording())
    this.filling = this.fresh()
    await this.measure()
    let timer: NodeJS.Timeout | undefined
    try {
      await this.open()
      begun()
      // Whoever followed before may have gone between writing a loss down and counting it.
      this.tellLost(await uncounted(this.engine, this.vessel.id, this.row.member))
      const stopped = new Promise<void>((resolve) => this.stop.addEventListener('abort', () => resolve(), { once: true }))
      const over = Promise.race([failed, this.stream.ended.then((error) => Promise.reject(error)), this.stop.aborted ? null : stopped])
      over.catch(() => undefined)
      // The log comes already: what fails of it must not wait for the source to answer.
      await Promise.race([over, this.firstLook()])
      // A source that is slow to answer is not asked again and again meanwhile.
      timer = setInterval(() => void (this.ticking > 0 || this.tick().catch((error: unknown) => this.fail(error))), TICK_MS)
      await over
      await Promise.race([failed, this.settle()])
    } catch (error) {
      if (!this.stop.aborted) throw this.translated(error)
    } finally {
      clearInterval(timer)
      await this.close()
    }
  }

  /** What was done to the structure while nobody followed, or was not read yet, is read now. */
  private async firstLook(): Promise<void> {
    if (this.wasOff) this.watch.missed()
    else if (this.looks || this.unread) this.watch.changed()
    else await this.watch.compare()
  }

  /** The structure as it was last read, moved on by what the source told since. */
  private async watchFrom(member: WatchedMember): Promise<StructureWatch> {
    const { chunks, exact, digest, from, told } = this.row.structure_names!
    const known = await readJson<DatabaseManifest>(this.store, chunks).catch((error: unknown) => {
      throw isOfContent(error) ? this.withoutStructure() : error
    })
    this.sequences = known.sequences
    const since = { era: this.row.era, member: this.row.member, to: exact }
    const segments = await segmentsOf(this.engine, this.vessel.id, since, { position: this.position })
    const logs: Pick<LogManifest, 'steps' | 'sequences' | 'changes' | 'looked'>[] = []
    for (const { manifest } of segments) {
      const { steps, sequences, changes, looked } = await readJson<LogManifest>(this.store, manifest)
      logs.push({ steps, sequences, changes, looked })
    }
    const quiet = quietSince(told ? exact : from, [...logs.map(({ looked }) => looked), this.looks ? this.row.caught_up_position : null])
    const state = { known, digest, quiet, tables: known.tables, followed: this.row.tables }
    const watch = new StructureWatch(this.access, member, state, this.stop, exact, (mark) => this.mark(mark))
    for (const { steps, sequences, changes } of logs) {
      this.sequences = sequences
      for (const step of (steps ?? []).filter(({ end }) => positionOf(end)! > positionOf(exact)!)) {
        watch.replay(step, changes.find(({ end }) => end === step.end)?.xid ?? null)
        this.unread = true
      }
    }
    watch.model.followed = this.row.tables
    return watch
  }

  private withoutStructure(): LogBroken {
    return new LogBroken({
      kind: 'segment',
      reason: `The structure from which the log of ${this.row.member} is followed can’t be read any more in ${this.store.name}.`,
      next: 'A new full begins a new log by itself.',
    })
  }

  private recording(): ConstructorParameters<typeof LogRecorder>[1] {
    const { clock } = this.engine
    return {
      takes: (schema, name) => this.watch.takes(schema, name),
      relationOf: (message) => this.watch.relationOf(message),
      noted: (note) => this.watch.noted(note),
      timeOf: (micros) => {
        const ms = Math.floor(micros / 1000)
        return micros + (clock.ofSource(new Date(ms)).getTime() - ms) * 1000
      },
      seen: (xid) => this.seen.get(xid) ?? null,
      chunk: (bytes, meta) => this.put(bytes, meta),
      structure: (transaction) => {
        const step = this.watch.committed(transaction)
        if (step) this.steps.push(step)
        if (step?.lost && !transaction.isOurs) this.losses.dropped(transaction, step.lost)
        this.structureDue = true
      },
      touched: (relation, end) => this.looks && this.losses.touched(relation, end),
      removed: (transaction, changes) => {
        if (this.losses.removed(transaction, changes)) this.due = true
      },
      marked: (mark, end) => {
        const placed = this.watch.placed(mark, end)
        if (!placed) return
        this.placed = placed
        const { from: before, read } = placed.piece
        const between = { before, end: read, after: placed.lostAfter, at: this.certain?.at ?? this.engine.clock.now() }
        this.losses.missing(between, placed.lost)
        this.due = true
        if (this.looks) this.namesRead()
      },
      between: () => this.closeIfDue(),
    }
  }

  /** Where the source tells nothing, columns are known by their names once they were read. */
  private namesRead(): void {
    this.recorder.relationsChanged((relation) => ({ ...relation, numbers: this.watch.numbersOf(relation.oid, relation.columns) }))
  }

  private async open(): Promise<void> {
    const { rows } = await this.ask((client) =>
      client.query<{ version: number }>(`select current_setting('server_version_num')::int as version`),
    )
    const { caught_up_position: caughtUp } = this.row
    // Where nothing had changed since, the source was told so; telling it less would move its slot back.
    const from = caughtUp ? laterPosition(caughtUp, this.position) : this.position
    // This worker has the log: whoever still reads it has lost it.
    await freeSlot(this.access, this.row.database, this.row.slot)
    this.stream = await LogStream.open(
      this.access,
      this.row.database,
      { slot: this.row.slot, publication: this.row.publication, from, messages: rows[0]!.version >= 140000 },
      {
        message: (bytes) => {
          if (this.failure) return
          try {
            this.recorder.take(bytes)
          } catch (error) {
            this.fail(error)
          }
        },
        reached: (position) => void this.reached(position).catch((error: unknown) => this.fail(error)),
      },
    )
  }

  private fresh(): Filling {
    const id = newSegmentId()
    return { id, writer: new ContentWriter(this.store, id), chunks: [], since: null }
  }

  /** Chunks go into the store while their transaction still comes; the source is held back when it is slower. */
  private put(bytes: Uint8Array<ArrayBuffer>, meta: Omit<LogChunk, 'name'>): void {
    if (++this.inFlight >= IN_FLIGHT) this.stream.pause()
    const put = this.filling.writer.put(bytes).then(({ name }) => ({ name, ...meta }))
    put
      .catch((error: unknown) => this.fail(error))
      .finally(() => {
        if (--this.inFlight < IN_FLIGHT && this.waiting < SEGMENTS_IN_FLIGHT) this.stream.resume()
      })
    this.filling.chunks.push(put)
  }

  private closeIfDue(): void {
    if (this.recorder.isEmpty || this.recorder.isOpen) return
    this.filling.since ??= Date.now()
    const old = Date.now() - this.filling.since >= this.plan.everySeconds * 1000
    if (this.due || old || this.recorder.size >= this.plan.segmentBytes) this.closeSegment()
  }

  private closeSegment(): void {
    this.due = false
    this.structureDue = false
    const recorded = this.recorder.finish()
    const filling = this.filling
    const change: StructureOfSegment = {
      steps: this.steps,
      readings: this.readings,
      placed: this.placed,
      before: this.followed,
      after: this.watch.followed,
      awaited: this.hurried,
      losses: this.losses.take(),
    }
    this.steps = []
    this.readings = []
    this.placed = null
    this.followed = this.watch.followed
    this.filling = this.fresh()
    if (++this.waiting >= SEGMENTS_IN_FLIGHT) this.stream.pause()
    // Behind one that failed nothing is committed, but what it has written goes.
    this.committing = this.committing
      .catch((error: unknown) => this.fail(error))
      .then(() => this.commit(recorded, filling, change))
      .finally(() => {
        if (--this.waiting < SEGMENTS_IN_FLIGHT && this.inFlight < IN_FLIGHT) this.stream.resume()
      })
    this.committing.catch((error: unknown) => this.fail(error))
  }

  private async commit(recorded: Recorded, filling: Filling, change: StructureOfSegment): Promise<void> {
    const manifest = await this.storeSegment(recorded, filling, change).catch(async (error: unknown) => {
      await Promise.allSettled(filling.chunks)
      await filling.writer.discard().catch(() => undefined)
      throw error
    })
    // It is committed: whatever fails from here on, nothing of it is taken back.
    this.position = recorded.to
    this.lastAt = manifest.toAt
    this.stream.confirm(recorded.to)
    await notify(this.engine.db, { about: 'log', vessel: this.vessel.id, member: this.row.member })
  }

  /** Stores and commits a segment; what of it is there when that fails is to be removed. */
  private async storeSegment(recorded: Recorded, { id, writer, chunks }: Filling, change: StructureOfSegment): Promise<LogManifest> {
    if (this.failure) throw this.failure
    const { placed, steps } = change
    // Where the source tells nothing, only what was read says which columns rows had.
    if (this.looks) {
      if (change.awaited) await this.watch.lookUntil(recorded.to)
      await this.watch.settled()
    }
    const structure = placed ? { ...placed.piece, chunks: await writeJson(writer, placed.manifest) } : null
    if (this.looks) for (const relation of recorded.relations) relation.numbers ??= this.watch.numbersOf(relation.oid, relation.columns)
    const sequences = await this.ask(describeSequences)
    const toAt = Math.max(this.lastAt, recorded.lastCommitMs ?? this.lastAt)
    const manifest: LogManifest = {
      format: 1,
      kind: 'log',
      source: this.access.name,
      database: this.row.database,
      from: recorded.from,
      to: recorded.to,
      fromAt: this.lastAt,
      toAt,
      era: this.row.era,
      chunks: await Promise.all(chunks),
      relations: recorded.relations,
      transactions: recorded.transactions,
      heavy: recorded.heavy,
      changes: recorded.changes,
      trace: [...recorded.trace].map(([key, tally]) => {
        const [second, relation] = key.split(' ').map(Number) as [number, number]
        return [second, relation, ...tally]
      }),
      sequences,
      readings: change.readings,
      structure,
      noticed: this.row.structure,
      looked: this.watch.quiet(placed?.mark).position,
      steps,
      followed: change.after,
      before: structure || steps.length > 0 ? change.before : null,
    }
    const { owner } = this
    const late = placed?.late ?? null
    const { losses } = change
    const bytes = sizeOf(manifest.chunks)
    const lost = await commitSegment(this.engine, this.store, writer, owner, { id, manifest, late, rows: recorded.rows, bytes, losses })
    this.tellLost(lost)
    return manifest
  }

  private get owner() {
    return { vesselId: this.vessel.id, vesselName: this.vessel.name, sourceId: this.row.source_id, member: this.row.member }
  }

  /** Tells of losses at once, then how many rows they are; and what is there no more is known by looking anew. */
  private tellLost(ids: string[]): void {
    if (ids.length === 0) return
    const { engine, vessel } = this
    const tell = () => notify(engine.db, { about: 'loss', vessel: vessel.id })
    this.counting = this.counting
      .then(tell)
      .then(() => Promise.all([discoverSource(engine, this.row.source_id), countLost(engine, vessel.slug, ids, tell)]))
      .then(tell)
      .catch((error: unknown) => console.warn(`losses of ${this.row.member}: ${errorRecord(error).what}`))
  }

  /** Up to here the source has sent everything. If nothing of it waits to be stored, it may forget up to here. */
  private async reached(position: string): Promise<void> {
    // A segment that failed waits no more, and what it held is in no store.
    if (this.failure || !this.recorder.isEmpty || this.recorder.isOpen || this.waiting > 0) return
    const [caughtUp, at] = this.caughtUpTo(position)
    if (!at || (!this.hurried && Date.now() - this.toldAt < TELL_EVERY_MS)) return
    this.toldAt = Date.now()
    this.hurried = false
    const { numUpdatedRows } = await this.engine.db
      .updateTable('follower')
      .set({ caught_up_position: caughtUp, caught_up_at: at, state: 'following', trouble: null })
      .where('vessel_id', '=', this.vessel.id)
      .where('member', '=', this.row.member)
      .where('position', '=', this.position)
      // Two words may overtake each other on their way: the catalog must never be behind what the source was told.
      .where((eb) => eb.or([eb('caught_up_position', 'is', null), eb(sql`caught_up_position::pg_lsn`, '<=', sql`${caughtUp}::pg_lsn`)]))
      .executeTakeFirst()
    if (numUpdatedRows === 0n) return
    // From the first word on any moment can be entered, though nothing may change for hours.
    if (this.toldUpTo === 0n) await notify(this.engine.db, { about: 'log', vessel: this.vessel.id, member: this.row.member })
    this.toldUpTo = positionOf(caughtUp)!
    if (!this.failure && this.waiting === 0 && this.recorder.isEmpty) this.stream.confirm(caughtUp)
  }

  /** Up to where nothing has changed, and when that was, where the source has sent everything up to a position. */
  private caughtUpTo(position: string): [position: string, at: Date | null] {
    const reached = positionOf(position)!
    const at = this.certain && this.certain.position <= reached ? this.certain.at : null
    if (!this.looks) return [position, at]
    const quiet = this.watch.quiet()
    if (positionOf(quiet.position)! >= reached && quiet.at) return [position, at]
    return [
      quiet.position,
      positionOf(quiet.position)! > positionOf(this.position)! && quiet.at ? this.engine.clock.ofSource(quiet.at) : null,
    ]
  }

  /** Asks the source beside the log, one question after the other. */
  private ask<T>(question: (client: pg.Client) => Promise<T>): Promise<T> {
    const answer = this.asking.then(() => question(this.side))
    this.asking = answer.catch(() => undefined)
    return answer
  }

  /** How many rows tables have; and what those lost whose changes are in no log. */
  private async measure(): Promise<void> {
    await this.ask((client) => this.losses.measure(client))
    const now = this.engine.clock.now()
    const losses = await this.ask((client) => this.untold.look(client, now, this.watch.followed))
    this.tellLost(await recordLosses(this.engine.db, this.owner, losses, now))
  }

  private async tick(): Promise<void> {
    this.ticking++
    try {
      await this.tickOnce()
    } finally {
      this.ticking--
    }
  }

  private async tickOnce(): Promise<void> {
    this.ticks++
    // A transaction may be open, and its segment with it, for longer than what is left over is left alone.
    if (this.ticks % MEASURED_EVERY === 0) await this.measure()
    if (this.ticks % WRITTEN_EVERY === 0) await this.store.index.isStillWritten(this.filling.id)
    if (this.watch.failure) throw this.watch.failure
    const { rows } = await this.ask((client) =>
      client.query<{ position: string; at: Date; who: { xid: string; application: string; user: string }[] }>(
        `select pg_current_wal_lsn()::text as position, clock_timestamp() as at,
         coalesce((select json_agg(json_build_object('xid', a.backend_xid::text, 'application', a.application_name, 'user', a.usename))
           from pg_catalog.pg_stat_activity a where a.backend_xid is not null and a.datname = current_database()), '[]') as who`,
      ),
    )
    const { position, at, who } = rows[0]!
    for (const { xid, application, user } of who) this.seen.set(xid, { application, user })
    while (this.seen.size > SEEN) this.seen.delete(this.seen.keys().next().value!)
    this.certain = { position: positionOf(position)!, at: this.engine.clock.ofSource(at) }
    await this.readSequences(position)
    if (this.looks && this.hurried) await this.watch.lookUntil(position)
    // A change of the structure is told at once; those of a migration are told together.
    if (this.structureDue) this.due = true
    this.closeIfDue()
    this.stream.ask()
    if (this.ticks % HELD_EVERY === 0) this.watch.tryHeld()
    if (await this.isToCompare()) await this.compare()
  }

  /** Whether it is time, or somebody did something to the trigger. */
  private async isToCompare(): Promise<boolean> {
    if (this.trigger !== null && (await this.ask(triggerWritten)) !== this.trigger) {
      this.compareAfter = 0
      return true
    }
    return this.ticks % (this.looks ? COMPARE_EVERY : COMPARE_SELDOM) === 0
  }

  /** Sequences move without a word in the log, so they are read again and again; where they are many, more rarely. */
  private async readSequences(position: string): Promise<void> {
    const from = Date.now()
    if (from < this.readSequencesAfter) return
    const now = await this.ask(describeSequences)
    const moved = changedSequences(this.sequences, now)
    this.sequences = now
    if (moved.length > 0) {
      if (this.readings.length === 0) this.movedSince = from
      this.readings.push({ position, sequences: moved })
    }
    this.readSequencesAfter = Date.now() + (Date.now() - from) * 10
    // Where nothing else happens, they are told all the same.
    if (this.readings.length === 0 || !this.recorder.isEmpty || from - this.movedSince < this.plan.everySeconds * 1000) return
    this.movedSince = from
    this.due = true
    await this.mark('')
  }

  /** A slow answer makes looks rarer: they take a twentieth of the time at most. */
  private async compare(): Promise<void> {
    if (Date.now() < this.compareAfter) return
    const from = Date.now()
    // Whoever takes the trigger off is noticed by what changed without it; it is put on again.
    if (this.row.structure === 'trigger' && (await this.triggerWasOff())) this.watch.missed()
    await this.watch.compare()
    this.compareAfter = Date.now() + (Date.now() - from) * 20
  }

  /** Puts the trigger on again. @returns whether somebody had taken it off, or had done something to it, since it was looked at last */
  private async triggerWasOff(): Promise<boolean> {
    const { written, isNew } = await this.ask((client) => installTrigger(client))
    const wasOff = isNew || (this.trigger !== null && this.trigger !== written)
    this.trigger = written
    return wasOff
  }

  /** A mark in the log tells where a structure that was read belongs, also where nothing else happens. */
  private async mark(mark: string): Promise<void> {
    // A connection of its own: the one beside the log may be asking something.
    await withClient(this.access, this.row.database, async (client) => {
      // It tells where a reading belongs, and does not wait for a standby that may be away.
      await client.query('set synchronous_commit = local')
      await client.query('select pg_logical_emit_message(true, $1, $2)', [MARK, mark])
    })
  }

  /** Brings what has come so far into the store now, instead of when it is due. */
  hurry(): void {
    this.due = this.hurried = true
    void this.tick().catch((error: unknown) => this.fail(error))
  }

  /** Told to stop, it brings into the store what the source has by now, as far as that takes no long time. */
  private async settle(): Promise<void> {
    const until = Date.now() + SETTLE_MS
    this.due = this.hurried = true
    await this.tick()
    const goal = this.certain!.position
    while (Date.now() < until && this.toldUpTo < goal) {
      this.hurried = true
      this.stream.ask()
      await new Promise((resolve) => setTimeout(resolve, 20))
    }
    await this.committing
  }

  private translated(error: unknown): unknown {
    const { message, code } = error as { message?: string; code?: string }
    const lost =
      /replication slot "[^"]*" does not exist|can no longer get changes from replication slot|requested WAL segment .* has already been removed/
    if (lost.test(message ?? ''))
      return new LogBroken({
        kind: 'slot lost',
        reason: `${this.access.name}: ${message}.`,
        next: 'A new full begins a new log by itself.',
      })
    // Another worker's connection that has not noticed its end yet.
    if (code === '55006')
      return Object.assign(new Error(`The slot ${this.row.slot} is still read by another connection.`), { cause: error })
    return error
  }

  private async close(): Promise<void> {
    this.failure ??= new Error('the follower has ended')
    this.stream?.close()
    await this.committing.catch(() => undefined)
    await this.counting
    await Promise.allSettled(this.filling.chunks)
    await this.filling.writer.discard().catch((error: unknown) => console.warn(`log of ${this.row.member}: ${errorRecord(error).what}`))
    await this.side.end().catch(() => undefined)
  }
}
