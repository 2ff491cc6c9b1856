import { sql } from 'kysely'
import { randomUUID } from 'node:crypto'
import type { Missing, PointRecord, VolumeManifest } from '../../core/content/manifest'
import { errorRecord, VesselError } from '../../core/errors'
import { takesFrom } from '../../core/selection/rules'
import { isOver } from '../catalog/runs'
import { accessOf, openSource } from '../catalog/sources'
import { namesOf, pathOf } from '../../core/things/thing'
import { capital } from '../../core/time/words'
import { CONSISTENCY, consistencyOf, type MemberFacts, type Reached } from '../../core/quiesce/consistency'
import { quiesceOf, type VesselDefinition } from '../../core/plan/definition'
import { folderToRead } from '../../core/quiesce/reads'
import { SharedMoment } from '../holds/moment'
import { HoldSequence } from '../holds/sequence'
import type { SourceKind } from '../sources/adapter'
import type { Progress } from '../sources/source'
import type { CatalogDb } from '../catalog/connect'
import type { PlannedAs } from '../catalog/plan-types'
import { openStore } from '../catalog/stores'
import type { BreakKind } from '../catalog/log-types'
import type { Vessel } from '../catalog/vessels'
import { ContentWriter, type WriterPart } from '../store/writer'
import type { Store } from '../store/store'
import type { RunContext } from './context'
import { lanesOf } from '../catalog/lifeline'
import { willLeave } from './clusters/leftovers'
import { undoAll } from './undone'
import { auditMember } from './audit'
import { earlierPoint } from './earlier'
import { RangeDifferential } from './differ'
import { Derivation, type Derived, type DerivedMember } from './derive'
import { snapshotOnLog } from '../log/begin'
import { piecesOf, type Piece } from './pieces'
import { commitPoint, type FinishedMember } from './manifests'
import { writeJson } from '../store/json'

type Details = { name: string | null; comment: string | null }

/** What decides how long its point stays. */
interface Stay {
  /** Its place in the plan that makes it; then retention decides. */
  plan?: PlannedAs
  /** Days for which somebody wants it, null for until it is deleted. Where nothing was said, as the vessel's definition has it. */
  keepDays?: number | null
  /** It began by itself because the log needs it: retention decides as for what the plan makes. */
  automatic?: boolean
}

const ofTheLog = (dueAt: string): PlannedAs => ({ line: '', name: 'for the log', dueAt, place: 1, of: 1 })

const DAY_MS = 86_400_000

/** When a point may go, where no plan makes it; null: when somebody deletes it. */
function expiresAt(at: string, { retention }: VesselDefinition, { plan, keepDays }: Stay): Date | null {
  const days = keepDays === undefined ? (retention?.byHandDays ?? null) : keepDays
  return plan || days === null ? null : new Date(Date.parse(at) + days * DAY_MS)
}

/** What the members of a point yielded, and what is in its record of them. */
interface Yield {
  members: FinishedMember[]
  entries: PointRecord['members']
  missing: Missing[]
  /** When each member was captured, and what held it. */
  facts: MemberFacts[]
}

/** A backup of a vessel: all of it read in full, or computed from what came before, as one recovery point. */
export async function backup(run: RunContext, vessel: Vessel, details: Details, what: 'full' | Derived, stay: Stay = {}): Promise<void> {
  const store = await openStore(run.engine, { name: vessel.definition.store })
  const writer = new ContentWriter(store, run.id, (tx) => run.confirm(tx))
  const id = randomUUID()
  const hold = new HoldSequence(run, quiesceOf(vessel.definition))
  let committed = false
  try {
    const { members, entries, missing, facts } =
      what === 'full' ? await full(run, vessel, store, writer, hold) : await derived(run, vessel, store, writer, what, hold)
    if (vessel.definition.partly === 'fail') refusePart(missing)
    const reached = consistencyOf(facts, await hold.stretch())
    await sayReached(run, reached)
    const last = await run.plan({ kind: 'manifest', member: '', title: 'Manifest' })
    await run
      .step(last, async () => {
        const record: PointRecord = {
          format: 1,
          id,
          vessel: { id: vessel.id, name: vessel.name, version: vessel.version, definition: vessel.definition },
          run: run.id,
          at: new Date(Math.max(...members.map(({ at }) => at.getTime()))).toISOString(),
          ...details,
          consistency: reached.consistency,
          reached,
          complete: missing.every(({ note }) => note),
          members: entries,
        }
        const also = (tx: CatalogDb) => closeHoles(tx, vessel, record, CLOSES[what])
        const plan = stay.plan ?? (stay.automatic ? ofTheLog(record.at) : undefined)
        const expires = expiresAt(record.at, vessel.definition, { ...stay, plan })
        await commitPoint(run, store, writer, record, members, { keptFor: null, plan, expires, missing, also })
        committed = true
      })
      .catch((error: unknown) => {
        // It is there, whatever could not be written down about it afterwards.
        if (!committed) throw error
      })
    await run.end(run.warnings > 0 ? 'warned' : 'done', {
      outcome: { point: id, missing: missing.filter(({ note }) => !note).length, stored: writer.stored },
    })
  } catch (error) {
    await hold.abandon()
    const undoing = [() => writer.discard(), () => undoAll(run.engine, run.id)]
    // Why it failed is what counts; what could not be cleaned up besides is told.
    for (const undo of undoing)
      await undo().catch((error: unknown) => run.say('warning', `Not all of what was begun could be removed: ${errorRecord(error).what}`))
    throw error
  }
}

/** @throws VesselError partly_captured when something is missing and the definition wants all or nothing */
function refusePart(missing: Missing[]): void {
  const lost = missing.filter(({ note }) => !note)
  if (lost.length === 0) return
  const more = lost.length > 1 ? ` And ${lost.length - 1} more.` : ''
  throw new VesselError('partly_captured', {
    what: `Not everything could be captured, and the definition wants all of it or nothing. ${lost[0]!.path}: ${lost[0]!.reason}${more}`,
    touched: 'No point was made, and nothing was stored. Earlier points are untouched.',
    next: 'Mend this at the source, leave it out by a rule, or let the definition keep the rest.',
  })
}

/** What was held and did not come about is told; what nobody asked for is not. */
async function sayReached(run: RunContext, { consistency, why, members }: Reached): Promise<void> {
  if (consistency === 'held together') return run.say('info', `${capital(CONSISTENCY[consistency].word)}. ${why}`)
  for (const { member, consistency: level, why: reason, missed } of members)
    if (missed) await run.say('warning', `${member.replace('/', ' / ')}: ${CONSISTENCY[level].word}. ${reason}`)
}

async function full(run: RunContext, vessel: Vessel, store: Store, writer: ContentWriter, hold: HoldSequence): Promise<Yield> {
  const { members, facts } = await captureMembers(run, vessel, store, writer, await sourceNames(run), hold)
  const missing = members.flatMap(({ piece }) => piece.missing)
  if (members.every(({ piece }) => piece.isEmpty)) throw nothingTaken(missing)
  return { members, entries: members.map(entryOf), missing, facts }
}

/** The holes that a point ends: of content that can't be read by a full, of single tables by whatever reads them whole. */
const CLOSES: Record<'full' | Derived, BreakKind[]> = {
  full: ['segment', 'deleted', 'structure', 'audit'],
  differential: ['structure', 'audit'],
  incremental: ['structure', 'audit'],
  synthetic: [],
}

async function closeHoles(tx: CatalogDb, vessel: Vessel, record: PointRecord, kinds: BreakKind[]): Promise<void> {
  if (kinds.length === 0) return
  const members = record.members.map(({ member }) => member)
  await tx
    .updateTable('chain_break')
    .set({ to_at: record.at })
    .where('vessel_id', '=', vessel.id)
    .where('member', 'in', members)
    .where('kind', 'in', kinds)
    .where('to_at', 'is', null)
    // What was found out of a later place in the log is not mended by what was read before it.
    .where((eb) =>
      eb.or([
        eb('from_position', 'is', null),
        ...record.members.map(({ member, position }) =>
          eb.and([eb('member', '=', member), sql<boolean>`from_position::pg_lsn <= ${position}::pg_lsn`]),
        ),
      ]),
    )
    .execute()
}

/** Every member's differential, incremental or synthetic full. */
async function derived(
  run: RunContext,
  vessel: Vessel,
  store: Store,
  writer: ContentWriter,
  what: Derived,
  hold: HoldSequence,
): Promise<Yield> {
  const { members: lanes } = await lanesOf(run.engine, vessel.id)
  if (lanes.length === 0) throw noFull(vessel)
  // What a cluster holds is read again whole; what has not changed of it is in the store already.
  const clusters = await sourceNames(run, 'kubernetes')
  const { members: captured, facts } = await captureMembers(run, vessel, store, writer, clusters, hold)
  const members: DerivedMember[] = []
  if (what === 'synthetic') for (const member of lanes) if (!clusters.includes(namesOf(member)[0]!)) await auditFirst(run, vessel, member)
  for (const member of lanes)
    if (!clusters.includes(namesOf(member)[0]!)) members.push(await computed(run, vessel, store, writer, member, what))
  const entries: PointRecord['members'] = members.map(({ member, artifact, kind, parent, from, position, era, rows, bytes, names }) => ({
    member,
    artifact,
    kind,
    position,
    rows,
    bytes,
    manifest: names,
    from,
    era,
    ...(parent ? { parent } : {}),
  }))
  return {
    members: [...members, ...captured],
    entries: [...entries, ...captured.map(entryOf)],
    missing: [...members, ...captured.map(({ piece }) => piece)].flatMap(({ missing }) => missing),
    facts: [...facts, ...members.map(({ member }): MemberFacts => ({ member, sound: true, captured: null, steps: [] }))],
  }
}

/**
 * A full that is computed takes the place of one that was read, so the log that leads to it is audited just before. One
 * that can't be, because its source is away, is computed all the same, and that is told.
 *
 * @throws VesselError `audit_differs`
 */
async function auditFirst(run: RunContext, vessel: Vessel, member: string): Promise<void> {
  const verdicts = await auditMember(run, vessel, member, null).catch(async (error: unknown) => {
    run.signal.throwIfAborted()
    const { what } = errorRecord(error)
    await run.say('warning', `${member} was not audited before its full is computed: ${what} That full is as sound as its log.`)
    return []
  })
  const differing = verdicts.filter(({ equal }) => !equal).map(({ table }) => `${table.schema}.${table.name}`)
  if (differing.length === 0) return
  throw new VesselError('audit_differs', {
    what: `No full was computed of ${member}, because its log does not lead to what the source holds: ${differing.join(', ')}.`,
    touched: 'No point was made. Earlier points are untouched; these tables are unknown from the last audit that agreed.',
    next: 'A differential reads them whole, which begins by itself. Compute the full after it, or read a full.',
  })
}

/** From the log where it is followed; else a differential is made by comparing checksums with the source. */
async function computed(
  run: RunContext,
  vessel: Vessel,
  store: Store,
  writer: ContentWriter,
  member: string,
  what: Derived,
): Promise<DerivedMember> {
  const follower = await run.engine.db
    .selectFrom('follower')
    .select('state')
    .where('vessel_id', '=', vessel.id)
    .where('member', '=', member)
    .where('state', 'in', ['following', 'stalled'])
    .executeTakeFirst()
  if (follower || what !== 'differential') return new Derivation(run, vessel, store, writer, member, what).go()
  await run.say('info', `${member} gives no log, so key ranges are compared with the source.`)
  return new RangeDifferential(run, vessel, store, writer, member).go()
}

const noFull = ({ name }: Vessel) =>
  new VesselError('no_full', {
    what: `${name} has no full yet that anything could build upon.`,
    touched: 'Nothing was changed.',
    next: 'Back it up in full first.',
  })

function nothingTaken(missing: Missing[]): VesselError {
  const first = missing[0]
  return new VesselError('nothing_taken', {
    what: first ? `Nothing could be captured. ${first.path}: ${first.reason}` : 'The rules of this vessel take nothing that exists now.',
    touched: 'No point was made, and nothing was stored. Earlier points are untouched.',
    next: first ? 'Mend this at the source, then run it again.' : 'Look at What in its definition.',
  })
}

async function sourceNames(run: RunContext, kind?: SourceKind): Promise<string[]> {
  const rows = await run.engine.db.selectFrom('source').select(['name', 'kind']).orderBy('name').execute()
  return rows.filter((row) => kind === undefined || row.kind === kind).map(({ name }) => name)
}

async function captureMembers(
  run: RunContext,
  vessel: Vessel,
  store: Store,
  writer: ContentWriter,
  sources: string[],
  hold: HoldSequence,
): Promise<{ members: CapturedMember[]; facts: MemberFacts[] }> {
  const names = sources.filter((name) => takesFrom(vessel.definition.rules, name))
  if (names.length === 0) return { members: [], facts: [] }
  const moment = new SharedMoment(hold, names.length)
  await hold.plan()
  const failures = new AbortController()
  const progress = run.within(failures.signal)
  const outcomes = await Promise.allSettled(
    names.map((name) =>
      captureSource(run, progress, vessel, store, writer.part(), name, moment).catch(async (error: unknown) => {
        // One source that can't be captured stops the others: there is no point without it.
        failures.abort(error)
        await moment.fail(error)
        throw error
      }),
    ),
  )
  if (failures.signal.aborted) throw failures.signal.reason
  const members = outcomes.flatMap((outcome) => (outcome.status === 'fulfilled' ? outcome.value : []))
  const factsOf = ({ piece }: CapturedMember) => {
    const volumes = piece.manifest.namespaces?.flatMap((namespace) => namespace.volumes.map(howRead)) ?? []
    return moment.factsOf(pathOf(piece.manifest.member, piece.name), !piece.isCluster, volumes)
  }
  return { members, facts: members.map(factsOf) }
}

const howRead = ({ claim, how, inUse }: VolumeManifest) => ({
  name: claim,
  read: how === 'snapshot' ? how : inUse === false ? ('at rest' as const) : ('in use' as const),
})

/** A slot waits for transactions that are at work; while something is held, no longer than this share of what is left. */
const SHARE_OF_HOLD = 0.5

async function captureSource(
  run: RunContext,
  progress: Progress,
  vessel: Vessel,
  store: Store,
  writer: WriterPart,
  name: string,
  moment: SharedMoment,
): Promise<CapturedMember[]> {
  const { id: sourceId, source } = await openSource(run.engine, name)
  const eras = new Map<string, string>()
  const before = earlierPoint(run, store, vessel, name)
  const manifest = await source.capture({
    progress,
    moment,
    run: run.id,
    isOver: (id) => isOver(run.engine, id),
    rules: vessel.definition.rules,
    readers: vessel.definition.readers,
    writer,
    earlier: before.database,
    earlierFiles: before.files,
    willLeave: (source) => willLeave(run, source),
    keptAtSource: vessel.definition.partly === 'fail' ? null : () => void (run.keptAtSource = true),
    folderToRead: (volume) => folderToRead(quiesceOf(vessel.definition), volume, moment.values),
    snapshot: async (database) => {
      const remainingMs = moment.remainingMs()
      const access = await accessOf(run.engine, name)
      const patience = remainingMs === null ? undefined : remainingMs * SHARE_OF_HOLD
      const exact = await snapshotOnLog(run.engine, vessel, access, database, (why) => run.say('warning', why), patience)
      if (exact) eras.set(database, exact.era)
      return exact
    },
  })
  const members: CapturedMember[] = []
  for (const piece of piecesOf(manifest)) {
    const names = await writeJson(writer, piece.manifest)
    const at = run.engine.clock.ofSource(new Date(piece.at))
    members.push({ artifact: randomUUID(), sourceId, at, piece, names, era: eras.get(piece.name) ?? '', stored: writer.takeStored() })
  }
  return members
}

interface CapturedMember extends FinishedMember {
  piece: Piece
  names: string[]
  era: string
}

function entryOf({ artifact, piece, names, era }: CapturedMember): PointRecord['members'][number] {
  const { position, rows, bytes } = piece
  return { member: pathOf(piece.manifest.member, piece.name), artifact, kind: 'full', position, era, rows, bytes, manifest: names }
}
