import { randomUUID } from 'node:crypto'
import { Chains, type Artifact } from '../../core/chain/chain'
import { laterPosition, positionOf } from '../../core/chain/position'
import type { LateHole, NetManifest, NetTable } from '../../core/changes/manifest'
import { singleIntegerKey } from '../../core/content/keys'
import { NO_ROWS, type DatabaseManifest, type Missing, type TableManifest } from '../../core/content/manifest'
import { VesselError } from '../../core/errors'
import { select } from '../../core/selection/rules'
import { lanesOf, type LaneData } from '../catalog/lifeline'
import { isFollowed } from '../catalog/log-types'
import { accessOf } from '../catalog/sources'
import type { Vessel } from '../catalog/vessels'
import { isSameServer, noLog, snapshotOfFollowed, type LogSnapshot } from '../log/begin'
import { lateHolesOf } from '../log/breaks'
import { chainFrom, viewOfChain } from '../log/moment'
import type { MemberView } from '../log/view'
import { waitForLog, whenSettled } from '../log/wait'
import { captureTable, DatabaseCapture } from '../sources/postgres/capture'
import { withClient, type PostgresAccess } from '../sources/postgres/connect'
import { hasMoved } from '../sources/postgres/utilities'
import type { Store } from '../store/store'
import type { ContentWriter } from '../store/writer'
import { namesOf } from '../../core/things/thing'
import type { RunContext } from './context'
import { type FinishedMember } from './manifests'
import { writeJson } from '../store/json'
import { writeNet, writeTable } from './net-content'

/** How often it is begun again when the structure changes beside it. */
const ATTEMPTS = 12

/** No log comes as far. */
const LAST_POSITION = 'FFFFFFFF/FFFFFFFF'

export type Derived = 'differential' | 'incremental' | 'synthetic'

/** A member's artifact that was computed, with what its point says of it. */
export interface DerivedMember extends FinishedMember {
  member: string
  kind: Derived
  parent: string | undefined
  from: string
  position: string
  era: string
  rows: number
  bytes: number
  names: string[]
  missing: DatabaseManifest['missing']
}

type Follower = Awaited<ReturnType<typeof followerOf>>

const followerOf = (run: RunContext, vesselId: string, member: string) =>
  run.engine.db.selectFrom('follower').selectAll().where('vessel_id', '=', vesselId).where('member', '=', member).executeTakeFirst()

/** What a member's next artifact builds upon: the newest full, or for what is no differential the newest artifact of all. */
export function parentIn(artifacts: Artifact[], member: string, era: string, derived: Derived): Artifact | null {
  const chains = new Chains(artifacts)
  const kinds = derived === 'differential' ? ['full', 'synthetic'] : ['full', 'synthetic', 'differential', 'incremental']
  const candidates = artifacts.filter((artifact) => artifact.member === member && artifact.era === era && kinds.includes(artifact.kind))
  const whole = candidates.filter((artifact) => chains.inEra(member, era, artifact.to)?.artifacts.some(({ id }) => id === artifact.id))
  return whole.sort((a, b) => (positionOf(a.to)! < positionOf(b.to)! ? -1 : 1)).at(-1) ?? null
}

/** Computes what one member has become since an earlier artifact, from its log. The source's tables are not read, but for those that are in no log. */
export class Derivation {
  private access!: PostgresAccess
  private row!: NonNullable<Follower>
  private lanes!: LaneData
  private holes: LateHole[] = []

  constructor(
    private readonly run: RunContext,
    private readonly vessel: Vessel,
    private readonly store: Store,
    private readonly writer: ContentWriter,
    private readonly member: string,
    private readonly kind: Derived,
  ) {}

  async go(): Promise<DerivedMember> {
    const [source] = namesOf(this.member)
    this.access = await accessOf(this.run.engine, source!)
    const row = await followerOf(this.run, this.vessel.id, this.member)
    if (!row || !isFollowed(row.state)) throw noLog(this.member, row?.trouble?.what)
    this.row = row
    this.lanes = await lanesOf(this.run.engine, this.vessel.id)
    const parent = this.parentOf()
    this.holes = await lateHolesOf(this.run.engine.db, this.vessel.id, this.member, LAST_POSITION)
    for (let attempt = 1; ; attempt++) {
      try {
        return await this.attempt(parent)
      } catch (error) {
        if (!hasMoved(error) || attempt === ATTEMPTS) throw error
        await this.run.say('info', `The structure of ${this.member} was changed while it was read; it is read once more.`)
      }
    }
  }

  private async attempt(parent: Artifact): Promise<DerivedMember> {
    const label = this.member.replace('/', ' / ')
    const log = await this.run.plan({ kind: 'log', member: label, title: 'Log up to now' })
    const compute = await this.run.plan({
      kind: 'net',
      member: label,
      title: this.kind === 'synthetic' ? 'Full from its chain' : 'Net changes',
    })
    let exact: LogSnapshot | null = null
    try {
      const { view, position } = await this.run.step(log, async () => {
        const toRead = this.toRead(parent)
        exact = await this.snapshot(toRead)
        const found = await this.upToNow(parent, exact)
        // A table that became known since it was decided what to read.
        if (toRead.length > 0) return found
        exact = await this.snapshot(lostOf(found.view))
        return exact ? this.upToNow(parent, exact) : found
      })
      return await this.run.step(compute, (count) =>
        this.kind === 'synthetic' ? this.synthetic(view, position, count) : this.net(view, parent, position, exact, count),
      )
    } finally {
      await (exact as LogSnapshot | null)?.close()
    }
  }

  /** The state at a snapshot, or as of now, once the log tells it. */
  private async upToNow(parent: Artifact, exact: LogSnapshot | null): Promise<{ view: MemberView; position: string }> {
    const { engine, signal } = this.run
    const position = exact?.position ?? (await this.positionNow())
    const end = await waitForLog(engine, this.vessel.id, this.member, position, signal)
    this.lanes = await lanesOf(engine, this.vessel.id)
    this.row = await this.rowOf(parent.era)
    // Where nothing was changed up to the position, the chain ends before it and the state is the same.
    const stands = exact ? position : laterPosition(end, parent.to)
    const view = () => this.viewAt(parent, stands, end)
    // A snapshot reads the structure itself.
    return { view: exact ? await view() : await whenSettled(engine, this.vessel.id, this.member, view, signal), position: stands }
  }

  /** The follower as it is now, as long as it follows what the computation goes on from. */
  private async rowOf(era: string): Promise<NonNullable<Follower>> {
    const row = await followerOf(this.run, this.vessel.id, this.member)
    if (row?.era !== era) throw noLog(this.member, 'it was begun anew meanwhile.')
    return row
  }

  private parentOf(): Artifact {
    const parent = parentIn(this.lanes.artifacts, this.member, this.row.era, this.kind)
    if (parent) return parent
    throw new VesselError('no_full', {
      what: `${this.member} has no full yet that its log leads on from.`,
      touched: 'Nothing was changed.',
      next: 'Back it up in full first; the log begins with that.',
    })
  }

  /** Tables whose rows at the position are not told by the log. */
  private toRead(parent: Artifact): number[] {
    const unknown = Object.entries(this.row.tables)
      .filter(([, { since, born }]) => since === null || (!born && positionOf(since)! > positionOf(parent.to)!))
      .map(([oid]) => Number(oid))
    // What an audit found otherwise than the log says is read whole from a position behind the audit.
    const audited = this.holes.flatMap(({ tables }) =>
      Object.entries(tables).flatMap(([oid, { since }]) => (since && positionOf(since)! > positionOf(parent.to)! ? [Number(oid)] : [])),
    )
    return [...new Set([...unknown, ...audited])]
  }

  /** @returns null where nothing has to be read, and where the source allows no snapshot, which is told */
  private async snapshot(toRead: number[]): Promise<LogSnapshot | null> {
    if (this.kind === 'synthetic' || toRead.length === 0) return null
    return snapshotOfFollowed(this.run.engine, this.vessel, this.access, this.row.database, (why) => this.run.say('warning', why))
  }

  private async positionNow(): Promise<string> {
    const read = (client: Parameters<Parameters<typeof withClient>[2]>[0]) =>
      client.query<{ position: string }>('select pg_current_wal_lsn()::text as position')
    const { position } = (await withClient(this.access, this.row.database, read)).rows[0]!
    // The position of another server says nothing of the log that was followed.
    const row = await followerOf(this.run, this.vessel.id, this.member)
    if (row && (await isSameServer(this.run.engine, this.access, row))) return position
    throw noLog(this.member, (await followerOf(this.run, this.vessel.id, this.member))?.trouble?.what)
  }

  private async viewAt(parent: Artifact, position: string, end: string): Promise<MemberView> {
    const path = new Chains(this.lanes.artifacts).inEra(this.member, parent.era, parent.to)!
    const chain = await chainFrom(
      this.run.engine,
      this.vessel.id,
      path.artifacts.map(({ id }) => id),
      position,
      end,
    )
    return viewOfChain(this.run.engine, this.vessel.id, this.store, chain)
  }

  /** Until when the state at the position is known to have held. */
  private stands(position: string): Date {
    const { at, caught_up_at: caughtUp, caught_up_position: reached } = this.row
    const held = caughtUp !== null && reached !== null && positionOf(reached)! >= positionOf(position)! && caughtUp > at!
    return held ? caughtUp : at!
  }

  private base(view: MemberView, position: string) {
    const database = view.manifest.databases[0]!
    return {
      artifact: randomUUID(),
      sourceId: this.row.source_id,
      member: this.member,
      era: this.row.era,
      position,
      at: this.stands(position),
      missing: database.missing,
    }
  }

  private async net(
    view: MemberView,
    parent: Artifact,
    position: string,
    exact: LogSnapshot | null,
    count: (counter: string, by: number) => void,
  ): Promise<DerivedMember> {
    const before = this.writer.stored
    const database = view.manifest.databases[0]!
    const read = exact ? await this.recapture(exact, this.toRead(parent), view, count) : { tables: [], structure: view.structure, at: null }
    const skip = new Set(read.tables.map(({ oid }) => oid))
    const changed: NetTable[] = []
    for (const table of database.tables) {
      this.run.signal.throwIfAborted()
      if (table.structure.kind !== 'table' || skip.has(table.oid)) continue
      const net = (await view.netSinceMark(table))?.share()
      if (!net || (net.entries.length === 0 && !net.emptied)) continue
      const written = await writeNet(this.writer, table, net)
      count('rows', written.rows)
      count('bytes', written.bytes)
      changed.push(written)
    }
    const base = this.base(view, position)
    const at = read.at ?? base.at
    const structure = await writeJson(this.writer, withoutRowsIn(read.structure))
    const kind = this.kind as 'differential' | 'incremental'
    const manifest: NetManifest = {
      format: 1,
      kind,
      source: this.access.name,
      database: this.row.database,
      from: parent.to,
      to: position,
      at: at.toISOString(),
      era: this.row.era,
      structure,
      changed,
      whole: read.tables,
      followed: this.row.tables,
    }
    const names = await writeJson(this.writer, manifest)
    const sum = (field: 'rows' | 'bytes') => [...changed, ...read.tables].reduce((all, table) => all + table[field], 0)
    const missing = exact ? [...toldOfRows(view, read.tables), ...read.structure.missing] : base.missing
    return {
      ...base,
      at,
      kind,
      parent: parent.id,
      from: parent.to,
      rows: sum('rows'),
      bytes: sum('bytes'),
      names,
      stored: this.writer.stored - before,
      missing,
    }
  }

  /** Reads tables whole that no log tells of, through a snapshot that lies on the log's position. */
  private async recapture(
    exact: LogSnapshot,
    oids: number[],
    view: MemberView,
    count: (counter: string, by: number) => void,
  ): Promise<{ tables: TableManifest[]; structure: DatabaseManifest; at: Date }> {
    const capture = await DatabaseCapture.open(this.access, this.row.database, this.run.signal, exact)
    try {
      const taken = new Set(select(this.vessel.definition.rules, capture.things).taken.map(({ path }) => path))
      const covered = capture.tables.filter((table) => table.structure.kind !== 'foreign' && taken.has(capture.pathOf(table)))
      const toRead = new Set([...oids, ...lostOf(view)])
      // What was made just before, the log may not tell of yet.
      const known = new Set(view.structure.tables.map(({ oid }) => oid))
      const wanted = new Set(
        covered
          .filter(({ oid, structure }) => structure.kind === 'table' && (toRead.has(oid) || !known.has(oid)))
          .map((table) => capture.pathOf(table)),
      )
      const tables: TableManifest[] = []
      const client = await capture.reader()
      try {
        for (const table of await capture.secure(wanted)) {
          const moved = (rows: number, bytes: number) => (count('rows', rows), count('bytes', bytes))
          tables.push(
            await captureTable(client, table, capture.pathOf(table), this.writer, { earlier: undefined, signal: this.run.signal, moved }),
          )
        }
      } finally {
        await client.end().catch(() => undefined)
      }
      for (const { path, reason } of capture.missing) await this.run.say('warning', `${path} is not covered. ${reason}`)
      const unread = new Set(capture.missing.filter(({ note }) => !note).map(({ path }) => path))
      await capture.limits(taken)
      const described = capture.describe(covered.filter((table) => !unread.has(capture.pathOf(table))))
      const structure = await capture.finish(await capture.structure(), described, null)
      return { tables, structure, at: this.run.engine.clock.ofSource(new Date(capture.at)) }
    } finally {
      await capture.close()
    }
  }

  private async synthetic(view: MemberView, position: string, count: (counter: string, by: number) => void): Promise<DerivedMember> {
    const before = this.writer.stored
    const database = view.manifest.databases[0]!
    const tables: TableManifest[] = []
    for (const table of database.tables) {
      this.run.signal.throwIfAborted()
      await view.ready((path) => path === table.path)
      tables.push(await writeTable(this.writer, view.store, table, singleIntegerKey(table), (name) => !view.store.isMade(name)))
      count('rows', table.rows)
      count('bytes', table.bytes)
    }
    const base = this.base(view, position)
    const manifest = { ...view.manifest, kind: 'synthetic' as const, databases: [{ ...database, tables }] }
    const names = await writeJson(this.writer, manifest)
    const sum = (field: 'rows' | 'bytes') => tables.reduce((all, table) => all + table[field], 0)
    return {
      ...base,
      kind: 'synthetic',
      parent: undefined,
      from: position,
      rows: sum('rows'),
      bytes: sum('bytes'),
      names,
      stored: this.writer.stored - before,
    }
  }
}

const withoutRowsIn = (database: DatabaseManifest): DatabaseManifest => ({
  ...database,
  largeObjects: null,
  tables: database.tables.map((table) => ({ ...table, ...NO_ROWS })),
})

const lostOf = ({ lost }: MemberView): number[] => lost.map(({ oid }) => oid)

/** What is told of the rows of a state, without that of its structure and of tables that were read whole. */
function toldOfRows({ manifest, structure }: MemberView, read: TableManifest[]): Missing[] {
  const isRead = new Set(read.map(({ path }) => path))
  return manifest.databases[0]!.missing.filter((lack) => !structure.missing.includes(lack) && !isRead.has(lack.path))
}
