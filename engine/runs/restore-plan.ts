import { createHash } from 'node:crypto'
import { VesselError } from '../../core/errors'
import type { DatabaseManifest, Missing } from '../../core/content/manifest'
import { judgeStructure } from '../../core/restore/judge'
import { isKnownByName, kindOf } from '../../core/restore/kinds'
import { planRestore, type DatabasePlan, type Operation } from '../../core/restore/plan'
import type { TargetState } from '../../core/restore/target'
import { placeOf, type Wish } from '../../core/restore/wish'
import { isWithin, pathOf, withinAny } from '../../core/things/thing'
import { accessOf } from '../catalog/sources'
import type { EngineContext } from '../context'
import { blockLost } from './lost-content'
import type { Confirmed } from '../sources/postgres/commit'
import { withClient, type PostgresAccess } from '../sources/postgres/connect'
import { inspectTarget } from '../sources/postgres/inspect'
import { filledViews } from '../sources/postgres/rebuild'
import type { Writing } from '../sources/postgres/write-entry'
import { planNamespaces, type PlannedNamespace } from './clusters/plan'
import { renamingOf } from '../../core/restore/entries'
import type { OpenPoint } from '../points/open'

export interface PlannedDatabase {
  /** How to reach the target, and the database there. */
  access: PostgresAccess
  database: string
  /** The source that the point was taken from, and its version number, such as 150018. */
  source: string
  serverVersion: number
  manifest: DatabaseManifest
  target: TargetState
  plan: DatabasePlan
  wish: Wish
  writing: Writing
  confirm: Confirmed
  /** Materialized views at the target that hold rows. */
  filled: Set<string>
}

/**
 * The plan for every database that the wish picks something from, against what stands at the target now.
 *
 * @param also paths of databases of a target that belong to it though nothing is picked
 */
export async function planWish(engine: EngineContext, point: OpenPoint, wish: Wish, also: string[] = []): Promise<PlannedDatabase[]> {
  const planned: PlannedDatabase[] = []
  for (const meant of meantOf(point, wish, also)) planned.push(await planDatabase(engine, point, meant, wish))
  return planned
}

interface MeantDatabase {
  member: string
  serverVersion: number
  database: DatabaseManifest
  into: { source: string; database: string }
}

/** The databases of a point that a wish picks something from, and where they go; a scratch database has no name yet. */
export function meantOf(point: OpenPoint, wish: Wish, also: string[]): MeantDatabase[] {
  return point.members.flatMap(({ member, manifest }) =>
    manifest.databases.flatMap((database) => {
      const root = pathOf(member, database.name)
      const into = placeOf(wish.into, member, database.name, database.name)
      const isMeant = also.includes(pathOf(into.source, into.database))
      if (!isMeant && !wish.picks.some((pick) => isWithin(pick, root) || isWithin(root, pick))) return []
      return [{ member, serverVersion: manifest.server.versionNumber, database, into }]
    }),
  )
}

/** The whole plan of a wish: of databases, and of namespaces. */
export interface PlannedWish {
  databases: PlannedDatabase[]
  namespaces: PlannedNamespace[]
}

/** @param also as in `planWish`. @throws VesselError `nothing_picked` */
export async function planAll(engine: EngineContext, point: OpenPoint, wish: Wish, also: string[] = []): Promise<PlannedWish> {
  const [databases, namespaces] = await Promise.all([planWish(engine, point, wish, also), planNamespaces(engine, point, wish)])
  const isNothing =
    also.length === 0 &&
    databases.every(({ plan }) => plan.operations.length === 0) &&
    namespaces.every(({ plan }) => plan.operations.length + plan.volumes.length === 0)
  if (!isNothing) {
    await blockLost(point, { databases, namespaces })
    return { databases, namespaces }
  }
  throw new VesselError('nothing_picked', {
    what: 'Nothing of this point is picked.',
    touched: 'Nothing was changed.',
    next: 'Tick what is to be restored.',
  })
}

async function planDatabase(engine: EngineContext, point: OpenPoint, before: MeantDatabase, wish: Wish): Promise<PlannedDatabase> {
  const { member, database } = before
  const into = placeOf(wish.into, member, database.name, scratchName(database.name, point.at))
  const access = await accessOf(engine, into.source)
  const target = await inspectTarget(access, into.database, needsDefinitions(database, wish))
  if (wish.into.mode === 'scratch' && target.exists) into.database = freeScratchName(into.database)
  const state = wish.into.mode === 'scratch' && target.exists ? await inspectTarget(access, into.database, false) : target
  const plan = planRestore({
    source: member,
    manifest: database,
    serverVersion: before.serverVersion,
    target: state,
    into,
    wish,
    at: point.at,
  })
  if (plan.operations.some(isJudged)) tellJudged(plan, judgeStructure(member, database, before.serverVersion))
  const renaming = renamingOf({ plan, manifest: database, target: state })
  return {
    access,
    source: member,
    serverVersion: before.serverVersion,
    database: into.database,
    manifest: database,
    target: state,
    plan,
    wish,
    writing: { renaming, roles: wish.roles, target: state },
    confirm: async () => undefined,
    filled: state.exists ? await withClient(access, into.database, filledViews) : new Set(),
  }
}

/** What is only mended or filled stands already. */
const isJudged = ({ verb, how }: Operation) => verb !== 'leave' && how !== 'refill'

/** What would not come back of a whole restore is told with what of it is restored now. */
function tellJudged(plan: DatabasePlan, judged: Missing[]): void {
  for (const { path, reason } of judged)
    for (const operation of plan.operations) if (operation.path === path && isJudged(operation)) operation.warnings.push(reason)
}

/** Whether definitions at the target have to be compared, or kinds be found that its catalog does not list by name. */
function needsDefinitions(database: DatabaseManifest, wish: Wish): boolean {
  const isPicked = withinAny(wish.picks)
  const others = database.others.some((other) => isPicked(other.path))
  // Comments on parts of a table, and its sequences, are told by a dump alone.
  const tables = wish.what === 'both' && wish.into.mode !== 'beside' && database.tables.some(({ path }) => isPicked(path))
  return others || tables || database.entries.some((entry) => !isKnownByName(kindOf(entry) ?? 'view') && entry.type !== 'DEFAULT ACL')
}

/** `scratch_bookings_20261124_0410`: says of what, and as of when. */
function scratchName(database: string, at: Date): string {
  const stamp = at.toISOString().replace(/[-:]/g, '').replace('T', '_').slice(0, 13)
  return `scratch_${database.slice(0, 36)}_${stamp}`
}

const freeScratchName = (name: string) => `${name}_${Math.random().toString(36).slice(2, 6)}`

/**
 * One text for what a plan will do to what stands: which things it overwrites or adds to, and how. The plan that is
 * carried out is made anew, and must not do other things than the one that was agreed to.
 */
export function planDigest({ databases, namespaces }: PlannedWish): string {
  const ofDatabases = databases.flatMap(({ plan }) =>
    plan.operations.map(({ path, verb, how, target, mends, rebuilds }) => [
      path,
      verb,
      how,
      target.schema,
      target.name,
      mends.map(({ words }) => words),
      rebuilds.map(({ key }) => key),
    ]),
  )
  const ofNamespaces = namespaces.flatMap(({ plan }) =>
    [...plan.operations, ...plan.volumes].map(({ path, verb, target }) => [path, verb, target]),
  )
  return createHash('sha256')
    .update(JSON.stringify([ofDatabases, ofNamespaces]))
    .digest('hex')
    .slice(0, 32)
}

/** @throws VesselError `plan_changed` */
export function requireAgreed(planned: PlannedWish, agreed: string | null): void {
  if (agreed === null || planDigest(planned) === agreed) return
  throw new VesselError('plan_changed', {
    what: 'What stands there has changed since this plan was looked at, so that it would do other things by now.',
    touched: 'Nothing was changed.',
    next: 'Look at the plan as it is now, and start it again.',
    status: 409,
  })
}

/**
 * What changes something that stands asks for a reason, which is kept.
 * @throws VesselError `reason_missing`
 */
export function requireReason({ databases, namespaces }: PlannedWish, reason: string | null): void {
  const changes =
    databases.some(({ plan }) => plan.operations.some(({ verb }) => verb === 'replace' || verb === 'merge')) ||
    namespaces.some(({ plan }) => plan.overwrites > 0)
  if (!changes || reason?.trim()) return
  throw new VesselError('reason_missing', {
    what: 'Something that stands there would be changed, and no reason is given.',
    touched: 'Nothing was changed.',
    next: 'Write why; it is kept with the receipt.',
    status: 400,
  })
}

export function blockedBy({ databases, namespaces }: PlannedWish): VesselError | null {
  const blockers = [...databases, ...namespaces].flatMap(({ plan }): { code: string; what: string; next: string }[] => plan.blockers)
  if (blockers.length === 0) return null
  const [first] = blockers
  const more = blockers.length > 1 ? ` And ${blockers.length - 1} more.` : ''
  return new VesselError(first!.code, { what: first!.what + more, touched: 'Nothing was changed.', next: first!.next, status: 409 })
}
