import { wishOf, type Wish } from '../../core/restore/wish'
import type { Vessel } from '../catalog/vessels'
import type { RunContext } from './context'
import { databaseTarget, holdTargets, targetsOf, type Target } from './targets'
import { entriesToRun, membersOf } from '../../core/restore/entries'
import { Receipts } from './receipts'
import { rolesStay, Unmaking } from './unmake'
import { rehearseDatabase } from './rehearse'
import { DatabaseRestore } from './restore-database'
import type { EngineContext } from '../context'
import { gonePaths, noteReturns } from '../watch/returns'
import { noRows, openPoint, type OpenPoint } from '../points/open'
import { openTogether } from '../points/together'
import { isWithin, namesOf, pathOf } from '../../core/things/thing'
import type { PlannedNamespace } from './clusters/plan'
import { rehearseNamespace } from './clusters/rehearse'
import { NamespaceRestore } from './clusters/restore'
import { accessOf } from '../catalog/sources'
import { blockedBy, meantOf, planAll, requireAgreed, type PlannedDatabase, type PlannedWish } from './restore-plan'

/** One thing to restore; taking a restore back takes one for each point that it kept. */
export interface RestorePart {
  point: string
  /** Further points that one restore kept, which are taken as one with it. */
  together?: string[]
  wish: Partial<Wish>
}

export interface RestoreParams extends RestorePart {
  reason: string | null
  /** The digest of the plan that was agreed to; absent where nobody looked at one. */
  agreed?: string | null
  /** More of the same restore, after the first. */
  more?: RestorePart[]
  /** Paths of what an earlier restore made, which is taken back with what it overwrote. */
  unmakes?: string[]
  /** Numbers of large objects that it put where none was, by the path of their database. */
  unlinks?: Record<string, number[]>
}

interface OpenPart {
  point: OpenPoint
  planned: PlannedWish
}

export const openPart = (engine: EngineContext, { point, together = [] }: RestorePart): Promise<OpenPoint> =>
  together.length > 0 ? openTogether(engine, [point, ...together]) : openPoint(engine, point, noRows)

/** Brings things back, or with `rehearsal` does everything that can be done without writing. */
export async function restore(run: RunContext, vessel: Vessel, params: RestoreParams, rehearsal: boolean): Promise<void> {
  let points = await openPoints(run.engine, params)
  // Before anything is looked at there: the tables that another restore writes to can't even be read.
  if (!rehearsal && (await holdTargets(run, await targetsMeant(run.engine, params, points)))) points = await openPoints(run.engine, params)
  let parts = await planParts(run, params, points)
  const again = async () => planParts(run, params, await openPoints(run.engine, params))
  if (!rehearsal && (await holdTargets(run, targetsOf(togetherOf(parts))))) parts = await again()
  let all = togetherOf(parts)
  // What an earlier restore made may stand in the way only until it goes.
  const blocker = blockedBy(all)
  const isPassing = !rehearsal && (params.unmakes ?? []).length > 0 && blocker?.code === 'others_depend'
  if (blocker && !isPassing) throw blocker
  if (!rehearsal) requireAgreed(all, params.agreed ?? null)
  const receipts = new Receipts(run)
  const unmakings = rehearsal ? [] : unmakingsOf(run, vessel, parts, params, receipts)
  if (unmakings.length > 0) {
    // What was made goes first where nothing needs it, so that what comes back is planned without it.
    for (const unmaking of unmakings) await unmaking.go(false)
    parts = await again()
    all = togetherOf(parts)
    const still = blockedBy(all)
    if (still) throw still
  }
  for (const database of all.databases) await expect(run, database)
  for (const namespace of all.namespaces) await expectNamespace(run, namespace)
  if (!rehearsal) expectProof(run, all)
  const wereGone = rehearsal ? new Set<string>() : await gonePaths(run.engine)
  try {
    for (const { point, planned } of parts) {
      for (const database of planned.databases) {
        if (rehearsal) await rehearseDatabase(run, database, point.store, receipts)
        else await new DatabaseRestore(run, vessel, point, database, receipts).go()
      }
      for (const namespace of planned.namespaces) {
        if (rehearsal) await rehearseNamespace(run, point, namespace, receipts)
        else await new NamespaceRestore(run, vessel, point, namespace, receipts).go()
      }
    }
    for (const unmaking of unmakings) await unmaking.go(true)
    if (!rehearsal) rolesStay(params.unmakes ?? [], receipts)
  } finally {
    // What was restored before a restore was cancelled or failed is on its receipt all the same.
    await receipts.save()
    if (!rehearsal) await noteReturns(run.engine, run.id, isWholeIn(all), wereGone)
  }
  const { tally } = receipts
  const undone = tally.left + tally.failed + tally.leftParts + tally.unequal > 0
  if (!rehearsal && tally.made + tally.replaced + tally.renamed + tally.merged === 0 && tally.failed > 0) throw receipts.firstFailure!
  await run.end(undone || run.warnings > 0 ? 'warned' : 'done', {
    outcome: { ...tally, rehearsal, point: params.point, ...elsewhere(all) },
  })
}

/** Whether all of a thing comes back to where it was: the very place, with its rows, and not only some of them. */
const isWholeIn =
  ({ databases, namespaces }: PlannedWish) =>
  (path: string): boolean =>
    databases.some(
      ({ access, database, wish }) => isWithin(path, pathOf(access.name, database)) && wish.what !== 'structure' && !wish.rows[path],
    ) || namespaces.some(({ access, plan }) => isWithin(path, pathOf(access.name, plan.into)))

/** Databases in which something is taken back that an earlier restore made. */
export const takenBackIn = ({ unmakes = [], unlinks = {} }: Pick<RestoreParams, 'unmakes' | 'unlinks'>): string[] => [
  ...new Set([...unmakes.map((path) => pathOf(...namesOf(path).slice(0, 2))), ...Object.keys(unlinks)]),
]

const partsOf = (params: RestoreParams): RestorePart[] => [params, ...(params.more ?? [])]

/** The points of all parts, in their order. */
async function openPoints(engine: EngineContext, params: RestoreParams): Promise<OpenPoint[]> {
  const points: OpenPoint[] = []
  for (const part of partsOf(params)) points.push(await openPart(engine, part))
  return points
}

/** The databases that will be written into, as far as they are known before a plan is made: all but scratch databases. */
async function targetsMeant(engine: EngineContext, params: RestoreParams, points: OpenPoint[]): Promise<Target[]> {
  const targets: Target[] = []
  const also = takenBackIn(params)
  for (const [i, part] of partsOf(params).entries()) {
    const wish = wishOf(part.wish)
    if (wish.into.mode === 'scratch') continue
    for (const { into } of meantOf(points[i]!, wish, also)) targets.push(databaseTarget(await accessOf(engine, into.source), into.database))
  }
  return targets
}

/** What is to be restored, planned against what stands at the target now. */
async function planParts(run: RunContext, params: RestoreParams, points: OpenPoint[]): Promise<OpenPart[]> {
  const parts: OpenPart[] = []
  const also = takenBackIn(params)
  for (const [i, part] of partsOf(params).entries()) {
    const point = points[i]!
    const planned = await planAll(run.engine, point, wishOf(part.wish), also)
    for (const database of planned.databases) database.confirm = () => run.confirm()
    await point.ready((path) =>
      planned.databases.some(({ plan }) => plan.operations.some((operation) => operation.path === path && operation.verb !== 'leave')),
    )
    parts.push({ point, planned })
  }
  return parts
}

const togetherOf = (parts: OpenPart[]): PlannedWish => ({
  databases: parts.flatMap(({ planned }) => planned.databases),
  namespaces: parts.flatMap(({ planned }) => planned.namespaces),
})

/** What is taken back beside what was overwritten, database by database. */
function unmakingsOf(
  run: RunContext,
  vessel: Vessel,
  parts: OpenPart[],
  { unmakes = [], unlinks = {} }: RestoreParams,
  receipts: Receipts,
): Unmaking[] {
  return parts.flatMap(({ point, planned }) =>
    planned.databases.flatMap(({ access, database, manifest, wish, writing }) => {
      const place = pathOf(access.name, database)
      const within = unmakes.filter((path) => isWithin(path, place))
      const large = unlinks[place] ?? []
      if (within.length + large.length === 0) return []
      return [new Unmaking(run, vessel, point.store, manifest, place, within, large, writing, wish.keepDays, receipts)]
    }),
  )
}

/** Where things went, when that was not where they came from. */
function elsewhere({ databases, namespaces }: PlannedWish): { into?: string } {
  const into = [
    ...databases.filter(({ wish }) => wish.into.mode === 'elsewhere' || wish.into.mode === 'scratch').map(({ database }) => database),
    ...namespaces
      .filter(({ plan }) => pathOf(plan.source, plan.into) !== plan.namespace)
      .map(({ plan }) => `${plan.into} of ${plan.source}`),
  ]
  return into.length === 0 ? {} : { into: [...new Set(into)].join(' and ') }
}

async function expectNamespace(run: RunContext, { plan }: PlannedNamespace): Promise<void> {
  const active = plan.operations.filter(({ verb }) => verb !== 'leave').length
  run.expect('objects', active)
  run.expect('files', plan.files)
  run.expect('bytes', plan.bytes)
  const warnings = [
    ...plan.warnings,
    ...[...plan.operations, ...plan.volumes].flatMap((operation) =>
      operation.verb === 'leave' ? [] : operation.warnings.map((text) => `${operation.target}: ${text}`),
    ),
  ]
  for (const warning of warnings) await run.say('info', warning)
}

async function expect(run: RunContext, database: PlannedDatabase): Promise<void> {
  const { plan } = database
  run.expect('rows', plan.rows)
  run.expect('bytes', plan.bytes)
  run.expect('structures', structuresOf(database))
  for (const warning of plan.warnings) await run.say('warning', warning)
}

/** Everything that is written is read back. */
function expectProof(run: RunContext, { databases, namespaces }: PlannedWish): void {
  for (const { plan } of databases) run.expect('rows checked', plan.rows)
  for (const { plan } of namespaces) run.expect('files checked', plan.files)
}

/** How many structures will be made: things without rows, and all that belongs to the tables that are made. */
function structuresOf(planned: PlannedDatabase): number {
  const { plan } = planned
  const standalone = plan.operations.filter(({ kind, verb, when }) => kind !== 'table' && verb !== 'leave' && when !== 'group')
  return plan.groups.reduce(
    (sum, group) =>
      sum +
      entriesToRun(
        planned,
        membersOf(planned, group.tables),
        group.inner.map((i) => plan.operations[i]!),
      ).length,
    standalone.length,
  )
}
