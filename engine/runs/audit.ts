import { randomUUID } from 'node:crypto'
import { sql } from 'kysely'
import { laterPosition, positionOf } from '../../core/chain/position'
import type { FollowedTables } from '../../core/changes/manifest'
import type { TableManifest } from '../../core/content/manifest'
import { VesselError } from '../../core/errors'
import { namesOf } from '../../core/things/thing'
import { lanesOf } from '../catalog/lifeline'
import { accessOf } from '../catalog/sources'
import { openStore } from '../catalog/stores'
import type { Vessel } from '../catalog/vessels'
import { snapshotOfFollowed, type LogSnapshot } from '../log/begin'
import { chainFrom, viewOfChain } from '../log/moment'
import type { MemberView } from '../log/view'
import { waitForLog } from '../log/wait'
import { notify } from '../notify'
import { copyStatement, DatabaseCapture } from '../sources/postgres/capture'
import { copyOut } from '../sources/postgres/copy-out'
import type { RunContext } from './context'
import { auditOf, logOf } from '../../core/plan/definition'
import { Throttle } from './throttle'

export interface AuditParams {
  /** Object ids of the tables to look at, by member; absent for all that are followed. */
  tables?: Record<string, number[]>
}

interface Verdict {
  table: TableManifest
  equal: boolean
  expected: { rows: number; fingerprint: string }
  found: { rows: number; fingerprint: string }
}

/**
 * Audits the log of a vessel: at a position on which a snapshot of the source lies exactly, each followed table is
 * read there and its fingerprint compared with that of the state that the log leads to. What differs is a hole from
 * the last position at which it agreed, and is read whole by the next differential.
 */
export async function audit(run: RunContext, vessel: Vessel, params: AuditParams): Promise<void> {
  const members = await followedMembers(run, vessel.id)
  const wanted = members.filter(({ member }) => params.tables === undefined || params.tables[member]?.length)
  if (wanted.length === 0) throw nothingFollowed(vessel)
  let [audited, differing] = [0, 0]
  for (const { member } of wanted) {
    const verdicts = await auditMember(run, vessel, member, params.tables?.[member] ?? null)
    audited += verdicts.length
    differing += verdicts.filter(({ equal }) => !equal).length
  }
  await run.end(differing > 0 ? 'warned' : 'done', { outcome: { audited, differing } })
}

/** One member of a vessel, or some of its tables. */
export const auditMember = (run: RunContext, vessel: Vessel, member: string, only: number[] | null): Promise<Verdict[]> =>
  new MemberAudit(run, vessel, member, only).go()

const followedMembers = (run: RunContext, vesselId: string) =>
  run.engine.db
    .selectFrom('follower')
    .select('member')
    .where('vessel_id', '=', vesselId)
    .where('state', '=', 'following')
    .orderBy('member')
    .execute()

class MemberAudit {
  constructor(
    private readonly run: RunContext,
    private readonly vessel: Vessel,
    private readonly member: string,
    private readonly only: number[] | null,
  ) {}

  async go(): Promise<Verdict[]> {
    const { run, member } = this
    const [source, database] = namesOf(member) as [string, string]
    const access = await accessOf(run.engine, source)
    const label = member.replace('/', ' / ')
    const log = await run.plan({ kind: 'log', member: label, title: 'Log up to now' })
    let exact: LogSnapshot | null = null
    try {
      const view = await run.step(log, async () => {
        exact = await snapshotOfFollowed(run.engine, this.vessel, access, database, (why) => run.say('warning', why))
        if (!exact) throw notExact(member)
        const end = await waitForLog(run.engine, this.vessel.id, member, exact.position, run.signal)
        return this.viewAt(exact, end)
      })
      const capture = await DatabaseCapture.open(access, database, run.signal, exact)
      try {
        return await this.compare(capture, view, exact!, label)
      } finally {
        await capture.close()
      }
    } finally {
      await (exact as LogSnapshot | null)?.close()
    }
  }

  private async viewAt({ position, era }: LogSnapshot, end: string): Promise<MemberView> {
    const { engine } = this.run
    const { artifacts, chains } = await lanesOf(engine, this.vessel.id)
    const needed = positionOf(position)! < positionOf(end)! ? position : end
    // On a quiet source a differential lies behind the end of the log.
    const behind = artifacts
      .filter(
        (artifact) =>
          artifact.member === this.member &&
          artifact.era === era &&
          artifact.kind !== 'log' &&
          positionOf(artifact.to)! <= positionOf(position)!,
      )
      .reduce((to, artifact) => laterPosition(to, artifact.to), needed)
    const chain = chains.inEra(this.member, era, behind)
    if (!chain) throw noFull(this.member)
    const marks = chain.artifacts.filter(({ kind }) => kind !== 'log').map(({ id }) => id)
    const store = await openStore(engine, { name: this.vessel.definition.store })
    return viewOfChain(engine, this.vessel.id, store, await chainFrom(engine, this.vessel.id, marks, position, end))
  }

  private async compare(capture: DatabaseCapture, view: MemberView, exact: LogSnapshot, label: string): Promise<Verdict[]> {
    const client = await capture.reader()
    const throttle = new Throttle(auditOf(logOf(this.vessel.definition)).megabytesPerSecond * 1024 * 1024)
    const verdicts: Verdict[] = []
    try {
      const due = []
      const followed = await this.followed()
      for (const table of view.fromLog()) {
        const there = capture.tables.find(({ oid }) => oid === table.oid)
        if (!there || !followed.has(table.oid) || (this.only && !this.only.includes(table.oid))) continue
        const ordinal = await this.run.plan({ kind: 'audit', member: label, title: `${there.schema}.${there.name}` })
        due.push({ table, there, ordinal })
      }
      for (const { table, there, ordinal } of due)
        await this.run.step(ordinal, async (count) => {
          await view.ready((path) => path === table.path)
          const now = { schema: there.schema, name: there.name, columns: table.columns }
          const found = await copyOut(client, copyStatement(now), { signal: this.run.signal }, async ({ bytes, rows }) => {
            count('rows', rows)
            count('bytes', bytes.length)
            await throttle.pass(bytes.length)
          })
          const expected = { rows: table.rows, fingerprint: table.fingerprint }
          const equal = found.rows === expected.rows && found.fingerprint === expected.fingerprint
          verdicts.push({ table, equal, expected, found })
          await this.record({ table, equal, expected, found }, exact)
        })
    } finally {
      await client.end().catch(() => undefined)
    }
    return verdicts
  }

  /** Tables whose rows are in the log; those of others are as of the last backup, and have nothing to agree with. */
  private async followed(): Promise<Set<number>> {
    const { tables } = await this.run.engine.db
      .selectFrom('follower')
      .select('tables')
      .where('vessel_id', '=', this.vessel.id)
      .where('member', '=', this.member)
      .executeTakeFirstOrThrow()
    return new Set(Object.entries(tables).flatMap(([oid, { since }]) => (since === null ? [] : [Number(oid)])))
  }

  /** The verdict of one table; one that differs is a hole from the last position at which it agreed. */
  private async record({ table, equal, expected, found }: Verdict, { position, era }: LogSnapshot): Promise<void> {
    const { run, vessel, member } = this
    const name = `${table.schema}.${table.name}`
    const now = run.engine.clock.now()
    const base = { vessel_id: vessel.id, member, era, oid: table.oid }
    await run.engine.db.transaction().execute(async (tx) => {
      const last = await tx
        .selectFrom('log_audit')
        .select(['position', 'at'])
        .where('vessel_id', '=', vessel.id)
        .where('member', '=', member)
        .where('era', '=', era)
        .where('oid', '=', table.oid)
        .where('equal', '=', true)
        .orderBy(sql`position::pg_lsn`, 'desc')
        .limit(1)
        .executeTakeFirst()
      await tx
        .insertInto('log_audit')
        .values({
          ...base,
          name,
          position,
          at: now,
          equal,
          rows: found.rows,
          expected: expected.fingerprint,
          found: found.fingerprint,
          run_id: run.id,
        })
        .execute()
      await tx
        .deleteFrom('audit_due')
        .where('vessel_id', '=', vessel.id)
        .where('member', '=', member)
        .where('oid', '=', table.oid)
        .where('since', '<=', now)
        .execute()
      if (equal) return
      const from = last?.position ?? '0/0'
      const why = `The audit found it otherwise than the log leads to: ${found.rows} rows with fingerprint ${found.fingerprint} at the source, ${expected.rows} with ${expected.fingerprint} by the log.`
      const holes: FollowedTables = {
        [table.oid]: { schema: table.schema, name: table.name, since: position, born: false, why, hole: from },
      }
      await tx
        .insertInto('chain_break')
        .values({
          id: randomUUID(),
          vessel_id: vessel.id,
          member,
          kind: 'audit',
          reason: `${name}: ${why}`,
          next: 'A differential reads it whole, which begins by itself. Report what changed it: nothing should be able to without a word in the log.',
          tables: JSON.stringify([name]),
          holes: JSON.stringify(holes),
          from_position: from,
          from_at: last?.at ?? null,
          to_at: null,
          at: now,
        })
        .execute()
    })
    if (!equal)
      await run.say('error', `${name} is not what the log leads to. It is unknown from the last audit that agreed, and is read whole.`)
    await notify(run.engine.db, { about: 'log', vessel: vessel.id, member })
  }
}

function nothingFollowed(vessel: Vessel): VesselError {
  return new VesselError('no_log', {
    what: `No log of ${vessel.name} is followed now, so there is none to audit.`,
    touched: 'Nothing was read.',
    next: 'Switch the log on in the definition, or see what stands in its way there.',
    status: 409,
  })
}

const notExact = (member: string) =>
  new VesselError('no_exact_moment', {
    what: `No moment of ${member} could be found at which its tables and its log are the same.`,
    touched: 'Nothing was read.',
    next: 'Audit it again when no long transaction is open there.',
  })

const noFull = (member: string) =>
  new VesselError('no_full', {
    what: `No unbroken chain of ${member} leads up to now.`,
    touched: 'Nothing was read.',
    next: 'Make a full first; the log begins with it.',
  })
