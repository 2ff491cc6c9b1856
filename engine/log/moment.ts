import { Chains, type Chain } from '../../core/chain/chain'
import type { MomentRef } from '../../core/chain/moment-ref'
import { laterPosition, positionOf } from '../../core/chain/position'
import { scanLog } from '../../core/changes/log-text'
import type { LateHole, LogManifest, NetManifest } from '../../core/changes/manifest'
import type { DatabaseManifest, Manifest } from '../../core/content/manifest'
import { VesselError } from '../../core/errors'
import { namesOf } from '../../core/things/thing'
import { artifactOf, lanesOf, type LaneData } from '../catalog/lifeline'
import { openStore } from '../catalog/stores'
import { vesselBySlug, type Vessel } from '../catalog/vessels'
import type { EngineContext } from '../context'
import { bySource, readyAll, type Need, type OpenPoint } from '../points/open'
import type { ContentPool } from '../pool/pool'
import { readJson } from '../store/json'
import type { Store } from '../store/store'
import { MomentStore } from './moment-store'
import { lateHolesOf } from './breaks'
import { structureAt } from './structure-at'
import { LOOK_AHEAD } from './structure-pieces'
import { segmentsOf, type StoredArtifact } from './segments'
import { MemberView, type Ingredients } from './view'

/** The chain of one member to a moment, with every artifact that would be read. */
export interface ResolvedChain {
  member: string
  /** A full and what builds on it. */
  marks: StoredArtifact[]
  /** Segments of log, in their order. */
  logs: StoredArtifact[]
  position: string
  at: Date
  exact: boolean
  /** Whether the moment lies after the last mark. */
  later: boolean
}

export interface ResolvedMoment {
  vessel: Vessel
  at: Date
  chains: ResolvedChain[]
  missing: string[]
}

const notRestorable = (what: string) =>
  new VesselError('not_restorable', {
    what,
    touched: 'Nothing was changed.',
    next: 'Choose another moment on the lifeline; where its band is, every moment can be entered.',
    status: 409,
  })

const nearOf = ({ near }: { near: number | null }) => (near === null ? null : new Date(near / 1000))

/** Which artifacts lead to a moment, for every member of a vessel. */
export async function resolveMoment(engine: EngineContext, ref: MomentRef): Promise<ResolvedMoment> {
  const vessel = await vesselBySlug(engine, ref.slug)
  const lanes = await lanesOf(engine, vessel.id)
  const at = 'micros' in ref ? new Date(Math.ceil(ref.micros / 1000)) : await timeOfPosition(engine, vessel.id, lanes, ref)
  const chains: ResolvedChain[] = []
  const missing: string[] = []
  for (const member of lanes.members) {
    const byPosition = 'position' in ref && namesOf(member)[0] === ref.source
    const chain = byPosition ? lanes.chains.to(member, ref.position, nearOf(ref)) : lanes.chains.at(member, at)
    if (!chain) missing.push(member)
    else
      chains.push(
        await resolveChain(
          engine,
          vessel.id,
          chain,
          byPosition ? { position: ref.position } : { micros: 'micros' in ref ? ref.micros : at.getTime() * 1000 },
        ),
      )
  }
  if (chains.length === 0) throw notRestorable(`No unbroken chain of ${vessel.name} leads to this moment.`)
  return { vessel, at, chains, missing }
}

async function stored(engine: EngineContext, ids: string[]): Promise<StoredArtifact[]> {
  const rows = await engine.db.selectFrom('artifact').selectAll().where('id', 'in', ids).execute()
  return rows
    .map((row) => ({ ...artifactOf(row), manifest: row.manifest, storeId: row.store_id }))
    .sort((a, b) => ids.indexOf(a.id) - ids.indexOf(b.id))
}

async function resolveChain(
  engine: EngineContext,
  vesselId: string,
  chain: Chain,
  until: { position: string } | { micros: number },
): Promise<ResolvedChain> {
  const marks = await stored(
    engine,
    chain.artifacts.filter(({ kind }) => kind !== 'log').map(({ id }) => id),
  )
  const mark = marks.at(-1)!
  const later = 'position' in until ? until.position !== mark.to : chain.at > mark.at
  const base = { member: chain.member, marks, at: chain.at, exact: chain.exact, later }
  if (!chain.artifacts.some(({ kind }) => kind === 'log')) return { ...base, logs: [], position: mark.to }
  if (!chain.exact) until = { micros: chain.at.getTime() * 1000 + 999 }
  const logs = await segmentsOf(engine, vesselId, mark, until)
  if ('position' in until) return { ...base, logs, position: until.position }
  const store = await openStore(engine, { id: mark.storeId! })
  // Only in the last segments a transaction may lie after the time: they are looked at from the end.
  while (logs.length > 0) {
    const log = await readJson<LogManifest>(store, logs.at(-1)!.manifest)
    const position = await positionAt(store, log, until.micros)
    if (position !== log.from || logs.length === 1)
      return { ...base, logs: position === log.from ? logs.slice(0, -1) : logs, position: laterPosition(position, mark.to) }
    logs.pop()
  }
  return { ...base, logs: [], position: mark.to }
}

/** Where a log stands at a time: the end of the last transaction before the first one that was committed later. */
export async function positionAt(store: Store, log: LogManifest, micros: number): Promise<string> {
  let position = log.from
  for (const chunk of log.chunks) {
    if (chunk.lastAt <= micros) {
      position = chunk.to
      continue
    }
    let committed = chunk.open?.at ?? 0
    let stopped = committed > micros
    if (!stopped)
      scanLog(await store.read(chunk.name), {
        begin: ({ at }) => {
          committed = at
          stopped ||= at > micros
          return !stopped
        },
        commit: (end) => void (position = end),
      })
    if (stopped) return position
  }
  return position
}

/** When a position of a log was reached: the commit time of the last transaction up to it. */
async function timeOfPosition(
  engine: EngineContext,
  vesselId: string,
  lanes: LaneData,
  ref: { source: string; position: string; near: number | null },
): Promise<Date> {
  const member = lanes.members.find((member) => namesOf(member)[0] === ref.source)
  const chain = member === undefined ? undefined : lanes.chains.to(member, ref.position, nearOf(ref))
  if (!chain) throw notRestorable(`No unbroken chain leads to the position ${ref.position} of ${ref.source}.`)
  const mark = chain.artifacts.filter(({ kind }) => kind !== 'log').at(-1)!
  const segment = (await segmentsOf(engine, vesselId, mark, { position: ref.position })).at(-1)
  if (!segment || chain.artifacts.at(-1) === mark) return mark.at
  const store = await openStore(engine, { id: segment.storeId! })
  const log = await readJson<LogManifest>(store, segment.manifest)
  let at = log.fromAt * 1000
  for (const chunk of log.chunks) {
    if (positionOf(chunk.from)! >= positionOf(ref.position)!) break
    let committed = chunk.open?.at ?? 0
    scanLog(await store.read(chunk.name), {
      begin: (transaction) => {
        committed = transaction.at
        return positionOf(transaction.position)! < positionOf(ref.position)!
      },
      commit: () => void (at = committed),
    })
  }
  return new Date(Math.max(Math.ceil(at / 1000), mark.at.getTime()))
}

/** A moment that was opened lately, with what was reckoned of it. */
interface Opened {
  opening: Promise<MemberView>
  view: MemberView | null
}

const caches = new WeakMap<ContentPool, Map<string, Opened>>()
const VIEWS = 12
/** Bytes of changes that moments which nobody may look at any more hold at most. */
const HELD_AT_MOST = 256 * 1024 * 1024

/** One member at the end of a chain. */
export async function viewOfChain(engine: EngineContext, vesselId: string, store: Store, chain: ResolvedChain): Promise<MemberView> {
  const holes = await lateHolesOf(engine.db, vesselId, chain.member, chain.position)
  const key = [store.id, ...chain.marks.map(({ id }) => id), chain.logs.at(-1)?.id, chain.position, chain.later, holes.length].join(' ')
  const views = caches.get(store.pool) ?? new Map<string, Opened>()
  caches.set(store.pool, views)
  const made = views.get(key)
  // Several may ask at once: what one of them has begun to make serves all.
  if (made?.view && (await isBehindLog(engine, vesselId, chain.member, made.view)) && views.get(key) === made) views.delete(key)
  const known = views.get(key)
  views.delete(key)
  letGo(views)
  const opened = known ?? { opening: makeView(engine, vesselId, store, chain, holes), view: null }
  views.set(key, opened)
  if (known) return known.opening
  opened.opening
    .then((view) => {
      opened.view = view
      // What is not known exactly yet may be a moment later.
      if (!view.settled) views.delete(key)
    })
    .catch(() => views.delete(key))
  return opened.opening
}

/** Whether more of the log was stored since a view was made that it may tell something about. */
async function isBehindLog(engine: EngineContext, vesselId: string, member: string, { awaits }: MemberView): Promise<boolean> {
  return awaits !== null && (await followerOf(engine, vesselId, member))?.position !== awaits
}

/** Makes room for one more; those that were asked for longest ago go first. */
function letGo(views: Map<string, Opened>): void {
  let held = [...views.values()].reduce((sum, { view }) => sum + (view?.held ?? 0), 0)
  for (const [key, { view }] of views) {
    if (views.size < VIEWS && held <= HELD_AT_MOST) return
    views.delete(key)
    held -= view?.held ?? 0
  }
}

/** A member that can be read: of a database by reckoning, of a cluster as its mark is. */
export type Readable = Pick<MemberView, 'manifest' | 'store' | 'ready' | 'restsUpon'>

async function readableOf(engine: EngineContext, vesselId: string, store: Store, chain: ResolvedChain): Promise<Readable> {
  const manifest = await readJson<Manifest>(store, chain.marks[0]!.manifest)
  if (!manifest.namespaces) return viewOfChain(engine, vesselId, store, chain)
  return { manifest, store: MomentStore.over(store), ready: async () => undefined, restsUpon: () => [] }
}

async function makeView(
  engine: EngineContext,
  vesselId: string,
  store: Store,
  { member, marks, logs, position, at, later }: ResolvedChain,
  holes: LateHole[],
): Promise<MemberView> {
  const [full, ...nets] = marks
  const { era } = full!
  const follower = await followerOf(engine, vesselId, member)
  const from: Ingredients = {
    full: await readJson<Manifest>(store, full!.manifest),
    mark: marks.at(-1)!.to,
    nets: await Promise.all(nets.map(({ manifest }) => readJson<NetManifest>(store, manifest))),
    logs: await Promise.all(logs.map(({ manifest }) => readJson<LogManifest>(store, manifest))),
    position,
    at,
    later,
    // Up to where it is known that nothing has changed since the last segment.
    caughtUp: follower?.era === era ? follower.caught_up_position : null,
    holes,
    following: [],
  }
  const end = logs.at(-1)?.to ?? marks.at(-1)!.to
  const next = async function* () {
    for (const { manifest } of await segmentsOf(engine, vesselId, { member, era, to: end }, { count: LOOK_AHEAD }))
      yield await readJson<LogManifest>(store, manifest)
  }
  const state = await structureAt(
    from,
    (names) => readJson<DatabaseManifest>(store, names),
    next,
    (name) => store.read(name),
  )
  return new MemberView(MomentStore.over(store), from, state, state.awaits ? (follower?.position ?? null) : null)
}

const followerOf = (engine: EngineContext, vesselId: string, member: string) =>
  engine.db
    .selectFrom('follower')
    .select(['era', 'position', 'caught_up_position'])
    .where('vessel_id', '=', vesselId)
    .where('member', '=', member)
    .executeTakeFirst()

/**
 * The chain from given marks up to a position of the log.
 * @param end where the log ends; nothing was changed between it and the position
 * @throws VesselError `chain_broken` when something is missing on the way
 */
export async function chainFrom(
  engine: EngineContext,
  vesselId: string,
  ids: string[],
  position: string,
  end: string,
): Promise<ResolvedChain> {
  const marks = await stored(engine, ids)
  const mark = marks.at(-1)!
  const logs = await segmentsOf(engine, vesselId, mark, { position })
  const reached = logs.at(-1)?.to ?? mark.to
  const needed = positionOf(position)! < positionOf(end)! ? position : end
  if (positionOf(reached)! < positionOf(needed)!) {
    throw new VesselError('chain_broken', {
      what: `The log of ${mark.member} has a hole after ${reached}.`,
      touched: 'Nothing was changed; earlier points are untouched.',
      next: 'Make a full: a new chain begins with it.',
    })
  }
  return { member: mark.member, marks, logs, position, at: logs.at(-1)?.at ?? mark.at, exact: true, later: position !== mark.to }
}

/** One artifact that is no full, with what it builds upon. */
export async function viewOfArtifact(engine: EngineContext, store: Store, vesselId: string, id: string): Promise<Readable> {
  const { artifacts } = await lanesOf(engine, vesselId)
  const wanted = artifacts.find((artifact) => artifact.id === id)
  // What builds upon nothing is all that is needed; positions of clusters say nothing.
  const needed = wanted?.parent === null ? [wanted] : wanted && new Chains(artifacts).to(wanted.member, wanted.to)?.artifacts
  if (!wanted || !needed) throw notRestorable('Something that this point builds upon is missing.')
  const marks = await stored(
    engine,
    needed.map((artifact) => artifact.id),
  )
  return readableOf(engine, vesselId, store, {
    member: wanted.member,
    marks,
    logs: [],
    position: wanted.to,
    at: wanted.at,
    exact: true,
    later: false,
  })
}

/** Opens any moment of a vessel. */
export async function openMoment(engine: EngineContext, id: string, ref: MomentRef, need: Need): Promise<OpenPoint> {
  const { vessel, at, chains } = await resolveMoment(engine, ref)
  const store = await openStore(engine, { id: chains[0]!.marks[0]!.storeId! })
  const opened = await Promise.all(chains.map((chain) => readableOf(engine, vessel.id, store, chain)))
  await readyAll(opened, need)
  return {
    id,
    at,
    name: null,
    vesselId: vessel.id,
    store: MomentStore.together(opened.map((view) => view.store)),
    members: opened.map(({ manifest }) => bySource(manifest)),
    ready: (more) => readyAll(opened, more),
    restsUpon: (table) => opened.flatMap((view) => view.restsUpon(table)),
  }
}
