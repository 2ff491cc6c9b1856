import { randomUUID } from 'node:crypto'
import { sql } from 'kysely'
import { positionOf } from '../../core/chain/position'
import type { FollowedTables } from '../../core/changes/manifest'
import { errorRecord, VesselError } from '../../core/errors'
import { logOf, type LogPlan } from '../../core/plan/definition'
import { pathOf } from '../../core/things/thing'
import { isFollowed } from '../catalog/log-types'
import { accessOf } from '../catalog/sources'
import type { Vessel } from '../catalog/vessels'
import { openStore } from '../catalog/stores'
import type { EngineContext } from '../context'
import { writeJson } from '../store/json'
import { translate, withClient, type PostgresAccess } from '../sources/postgres/connect'
import { catalogDigest } from '../sources/postgres/log/digest'
import { alignPublication, identities, installTrigger } from '../sources/postgres/log/install'
import { dropSlot, placeOfServer, snapshotWithSlot, type ExactSnapshot } from '../sources/postgres/log/slot'
import { ContentWriter } from '../store/writer'
import { nameAtSource } from './names'
import { LogBroken, recordBreak } from './breaks'
import { sameServer } from './examine'
import { unpublished } from './followed-after'
import { readDatabase, takesTable } from './structure'

/** A snapshot waits for transactions that are at work, this long. */
const PATIENCE_MS = 10 * 60_000

export interface LogSnapshot extends ExactSnapshot {
  era: string
}

type Row = Awaited<ReturnType<typeof followerRow>>

/** A follower's row, made when there is none yet, so that the name of its slot is known before the slot is made. */
export async function followerRow(engine: EngineContext, vessel: Vessel, source: string, database: string) {
  const member = pathOf(source, database)
  const name = nameAtSource(vessel.id, member)
  const { id } = await accessOf(engine, source)
  await engine.db
    .insertInto('follower')
    .values({
      vessel_id: vessel.id,
      member,
      source_id: id,
      database,
      state: 'waiting',
      slot: name,
      publication: name,
      structure: logOf(vessel.definition).structure,
      tables: '{}',
      since: engine.clock.now(),
    })
    .onConflict((conflict) => conflict.columns(['vessel_id', 'member']).doNothing())
    .execute()
  return engine.db
    .selectFrom('follower')
    .selectAll()
    .where('vessel_id', '=', vessel.id)
    .where('member', '=', member)
    .executeTakeFirstOrThrow()
}

type Tell = (why: string) => Promise<void>

/**
 * A snapshot of a database that lies exactly on a position of its log: from it on the log is followed, or is
 * followed already. Null when it is not to be followed, or can't be; then `refused` is told why.
 */
export async function snapshotOnLog(
  engine: EngineContext,
  vessel: Vessel,
  access: PostgresAccess,
  database: string,
  refused: Tell,
  patience = PATIENCE_MS,
): Promise<LogSnapshot | null> {
  const plan = logOf(vessel.definition)
  if (!plan.follow) return null
  const exact = await unlessRefused(engine, vessel, access, database, refused, async (row) => {
    const within = isFollowed(row.state) ? await snapshotWithinLog(engine, vessel, access, database, patience) : null
    return within ?? beginLog(engine, vessel, access, row, plan, patience)
  })
  return exact === REFUSED ? null : exact
}

/**
 * A snapshot on a position of a log that is followed already; it begins none. Null when the source allows no snapshot;
 * then `refused` is told why.
 *
 * @throws VesselError `no_log` when the log is followed no more, or belongs to another server than the one that is there
 */
export async function snapshotOfFollowed(
  engine: EngineContext,
  vessel: Vessel,
  access: PostgresAccess,
  database: string,
  refused: Tell,
): Promise<LogSnapshot | null> {
  const within = () => snapshotWithinLog(engine, vessel, access, database, PATIENCE_MS)
  const exact = await unlessRefused(engine, vessel, access, database, refused, within)
  if (exact === REFUSED) return null
  if (exact) return exact
  const { member, trouble } = await followerRow(engine, vessel, access.name, database)
  throw noLog(member, trouble?.what)
}

export function noLog(member: string, why: string | undefined): VesselError {
  return new VesselError('no_log', {
    what: `The log of ${member} is not followed${why ? `: ${why}` : '.'}`,
    touched: 'Nothing was changed.',
    next: 'Switch the log on in the definition, or make a full.',
  })
}

const REFUSED = 'refused'

/** What keeps a source from giving a snapshot is told, and left as the trouble of its log. */
async function unlessRefused<T>(
  engine: EngineContext,
  vessel: Vessel,
  access: PostgresAccess,
  database: string,
  refused: Tell,
  work: (row: Row) => Promise<T>,
): Promise<T | typeof REFUSED> {
  const row = await followerRow(engine, vessel, access.name, database)
  try {
    return await work(row)
  } catch (thrown) {
    const error = refusal(translate(thrown, access, database), access, database)
    await setTrouble(engine, vessel.id, row.member, error)
    await refused(`${error.message} ${error.next}`)
    return REFUSED
  }
}

/**
 * A snapshot that lies on a position of a log that is followed already. Null when it is followed no more, or when the
 * source has become another server, or was put back to an earlier state: then that is recorded as a break.
 */
async function snapshotWithinLog(
  engine: EngineContext,
  vessel: Vessel,
  access: PostgresAccess,
  database: string,
  patience: number,
): Promise<LogSnapshot | null> {
  const exact = await snapshotWithSlot(access, database, null, patience)
  try {
    // The connection of the snapshot is to the server that is looked at: with another one it would be gone.
    const row = await followerRow(engine, vessel, access.name, database)
    if (isFollowed(row.state) && (await isSameServer(engine, access, row))) return { ...exact, era: row.era }
  } catch (error) {
    await exact.close()
    throw error
  }
  await exact.close()
  return null
}

/** Whether a source is still the server whose log is followed; where it is not, a break is recorded. */
export async function isSameServer(engine: EngineContext, access: PostgresAccess, row: Row): Promise<boolean> {
  try {
    await sameServer(access, row)
    return true
  } catch (error) {
    if (!(error instanceof LogBroken)) throw error
    await recordBreak(engine, row.vessel_id, row.member, error.broken)
    return false
  }
}

async function beginLog(
  engine: EngineContext,
  vessel: Vessel,
  access: PostgresAccess,
  row: Row,
  plan: LogPlan,
  patience: number,
): Promise<LogSnapshot> {
  const { database, slot, publication, member } = row
  await dropSlot(access, database, slot)
  const tables = await withClient(access, database, async (client) => {
    if (plan.structure === 'trigger') await installTrigger(client)
    const found = await identities(client)
    const covered = found.filter(({ schema, name }) => takesTable(vessel.definition.rules, pathOf(access.name, database, schema, name)))
    const wanted = covered.filter(({ trouble }) => trouble === null)
    const { published } = await alignPublication(client, publication, { seen: found, wanted })
    return unpublished(covered, wanted, published)
  })
  const exact = await snapshotWithSlot(access, database, slot, patience)
  const era = await eraFrom(engine, row, await placeOfServer(access, database), exact.position)
  const structure = await structureAt(engine, vessel, access, database, exact)
  const followed: FollowedTables = {}
  for (const { oid, schema, name, trouble } of tables)
    followed[oid] = { schema, name, since: trouble === null ? exact.position : null, born: false, why: trouble }
  const now = engine.clock.now()
  // Content that nobody rests upon may go: it is committed together with who does.
  const setFollowed = async (tx: EngineContext['db']) => {
    await structure.writer.commit(tx)
    await tx
      .updateTable('follower')
      .set({
        state: 'following',
        position: exact.position,
        at: now,
        caught_up_position: null,
        caught_up_at: null,
        era,
        tables: JSON.stringify(followed),
        structure: plan.structure,
        structure_names: JSON.stringify({
          from: exact.position,
          exact: exact.position,
          read: exact.position,
          told: true,
          ...structure.piece,
        }),
        trouble: null,
        warned: false,
        since: now,
      })
      .where('vessel_id', '=', vessel.id)
      .where('member', '=', member)
      .execute()
  }
  await engine.db.transaction().execute(setFollowed)
  // What was broken ends where the new log begins.
  await engine.db
    .updateTable('chain_break')
    .set({ to_at: now })
    .where('vessel_id', '=', vessel.id)
    .where('member', '=', member)
    .where('to_at', 'is', null)
    .execute()
  return { ...exact, era }
}

/**
 * The history of the source that a log belongs to: its server, its timeline and, when it was put back to an earlier
 * state so that its positions come a second time, which time that is.
 */
async function eraFrom(
  engine: EngineContext,
  { vessel_id: vesselId, member }: { vessel_id: string; member: string },
  { systemId, timeline }: { systemId: string; timeline: number },
  position: string,
): Promise<string> {
  const known = await engine.db
    .selectFrom('artifact')
    .select(({ fn }) => ['era', fn.max<string>(sql`position::pg_lsn`).as('until'), fn.max('at').as('at')])
    .where('vessel_id', '=', vesselId)
    .where('member', '=', member)
    .where('position', 'is not', null)
    .groupBy('era')
    .orderBy('at', 'desc')
    .execute()
  const base = `${systemId}/${timeline}`
  const ofServer = known.filter(({ era }) => era === base || era.startsWith(`${base}/`))
  const [newest] = ofServer
  if (!newest) return base
  return positionOf(newest.until)! <= positionOf(position)! ? newest.era : `${base}/${ofServer.length + 1}`
}

/** The structure as the log finds it, in the store, and its writer, which is still to commit it: what changes later is told from it. */
async function structureAt(
  engine: EngineContext,
  vessel: Vessel,
  access: PostgresAccess,
  database: string,
  exact: ExactSnapshot,
): Promise<{ piece: { chunks: string[]; digest: string }; writer: ContentWriter }> {
  const store = await openStore(engine, { name: vessel.definition.store })
  const id = randomUUID()
  const writer = new ContentWriter(store, id)
  try {
    const { digest } = await withClient(access, database, catalogDigest)
    const manifest = await readDatabase(access, database, vessel.definition.rules, new AbortController().signal, exact)
    const names = await writeJson(writer, manifest)
    await writer.flush()
    return { piece: { chunks: names, digest }, writer }
  } catch (error) {
    await writer.discard()
    throw error
  }
}

export async function setTrouble(engine: EngineContext, vesselId: string, member: string, error: unknown): Promise<void> {
  await engine.db
    .updateTable('follower')
    .set({ trouble: JSON.stringify(errorRecord(error)) })
    .where('vessel_id', '=', vesselId)
    .where('member', '=', member)
    .execute()
}

/** What kept the log from being followed, in words that say how to mend it. */
function refusal(error: unknown, { name, settings }: PostgresAccess, database: string): VesselError {
  const cause =
    error instanceof VesselError
      ? (error.cause as { message?: string; code?: string } | undefined)
      : (error as { message?: string; code?: string })
  const text = `${cause?.message ?? ''}`
  const say = (code: string, what: string, next: string) =>
    new VesselError(code, { what, touched: 'The backup goes on without it.', next, cause: error })
  if (/wal_level/.test(text))
    return say(
      'log_level',
      `The log of ${name} can’t be followed: its wal_level is not logical.`,
      `Set wal_level = logical there (ALTER SYSTEM SET wal_level = 'logical') and restart the server.`,
    )
  if (/max_replication_slots|all replication slots are in use/.test(text))
    return say(
      'log_slots',
      `${name} has no replication slot left.`,
      'Raise max_replication_slots there, which takes a restart, or drop a slot that nobody needs.',
    )
  if (/must be superuser.*event trigger|permission denied to create event trigger/i.test(text))
    return say(
      'log_trigger',
      `The role ${settings.user} may not install the trigger that notes changes of structure.`,
      'Choose “compare the catalogs” in the definition, or connect with a superuser.',
    )
  if (/statement timeout/.test(text))
    return say(
      'log_busy',
      `No exact moment of ${database} was found within ten minutes: a transaction stays open there.`,
      'Look for it in pg_stat_activity, by xact_start, then run it again.',
    )
  if (/must be superuser or replication role|permission denied.*(replication|slot)/i.test(text))
    return say(
      'log_right',
      `The role ${settings.user} may not replicate from ${name}.`,
      `Grant it: ALTER ROLE "${settings.user}" REPLICATION;`,
    )
  if (error instanceof VesselError) return error
  return say('log_refused', `The log of ${name} can’t be followed: ${text}.`, 'The server’s own log may say more.')
}
