import type { ReceiptOutcome } from '../../core/restore/receipt'
import { sql } from 'kysely'
import type { ArtifactKind } from '../../core/chain/chain'
import { VesselError, type ErrorRecord } from '../../core/errors'
import { namesOf, placeInWords } from '../../core/things/thing'
import type { Sample } from '../../core/time/pace'
import type { EngineContext } from '../context'
import { holdsOfRun, type HoldLine } from './hold-views'
import type { RunKind, RunState, StepState } from './types'

export interface RunRow {
  id: string
  kind: RunKind
  /** Which kind of a backup it makes; null for what is none. */
  makes: ArtifactKind | null
  state: RunState
  vessel: string
  slug: string
  name: string | null
  comment: string | null
  startedBy: string
  /** The store that it looks after; null where it is of a vessel. */
  store: string | null
  /** Where it stands in a plan; null where no plan began it. */
  planned: { line: string; place: number; of: number } | null
  at: Date
  startedAt: Date | null
  finishedAt: Date | null
  cancelling: boolean
  /** Why it could not begin yet, in a sentence. */
  waitsFor: string | null
  counters: Record<string, number>
  outcome: Record<string, unknown> | null
  error: ErrorRecord | null
}

export interface RunStep {
  ordinal: number
  member: string
  kind: string
  title: string
  state: StepState
  startedAt: Date | null
  finishedAt: Date | null
  counters: Record<string, number>
  message: string | null
  /** Which of the holds of the run it began or released, by its index; null when it did neither. */
  hold: number | null
}

export interface ReceiptLine {
  path: string
  /** What it tells of: a thing of a database or of a cluster, or a check that was run at the end and stands at no path. */
  of: 'database' | 'cluster' | 'check'
  target: string
  outcome: ReceiptOutcome
  reason: string | null
  rows: number | null
  fingerprintThen: string | null
  fingerprintNow: string | null
  structureThen: string | null
  structureNow: string | null
  equal: boolean | null
  leftParts: { what: string; why: string }[]
}

export interface RunDetail extends RunRow {
  version: number
  params: Record<string, unknown>
  steps: RunStep[]
  /** How fast it went. */
  pace: Sample[]
  messages: { at: Date; level: 'info' | 'warning' | 'error'; text: string }[]
  receipt: ReceiptLine[]
  /** Points that hold what this run overwrote. */
  kept: { id: string; at: Date; expiresAt: Date | null }[]
  /** Whether it can be taken back: it kept what it overwrote, or it only made things in databases. */
  canBeTakenBack: boolean
  /** What it held, from the ledger. */
  holds: HoldLine[]
}

const selectRuns = (engine: EngineContext) =>
  engine.db
    .selectFrom('run')
    .innerJoin('vessel', 'vessel.id', 'run.vessel_id')
    .select([
      'run.id',
      'run.kind',
      'run.state',
      'vessel.name as vessel',
      'vessel.slug',
      'run.name',
      'run.comment',
      'run.started_by as startedBy',
      sql<string | null>`run.params->>'store'`.as('store'),
      sql<RunRow['planned']>`case when run.params->'plan' is not null then jsonb_build_object('line', run.params->'plan'->'name',
        'place', run.params->'plan'->'place', 'of', run.params->'plan'->'of') end`.as('planned'),
      'run.at',
      'run.started_at as startedAt',
      'run.finished_at as finishedAt',
      'run.counters',
      'run.outcome',
      'run.error',
      'run.cancel_requested_at',
      'run.waits_for as waitsFor',
      sql<ArtifactKind | null>`case when run.kind = 'backup' then coalesce(run.params->>'what', 'full') end`.as('makes'),
    ])

type Selected = Awaited<ReturnType<ReturnType<typeof selectRuns>['executeTakeFirstOrThrow']>>

function rowOf({ cancel_requested_at: cancel, ...row }: Selected): RunRow {
  return { ...row, cancelling: cancel !== null && row.finishedAt === null }
}

export interface RunFilter {
  vessel?: string
  kinds?: RunKind[]
  states?: RunState[]
  /** From when on, and up to when, they were asked for. */
  since?: Date
  until?: Date
  /** What stands in the name, the comment, what failed, or by whom it was started. */
  text?: string
  /** The last run of the page before: `at` and `id`. */
  before?: { at: Date; id: string }
  limit: number
}

/** Runs, newest first, paged by key. */
export async function listRuns(engine: EngineContext, filter: RunFilter): Promise<RunRow[]> {
  let query = selectRuns(engine).orderBy('run.at', 'desc').orderBy('run.id', 'desc').limit(filter.limit)
  // What looks after a store is told with a vessel, and is none of it.
  if (filter.vessel) query = query.where('vessel.slug', '=', filter.vessel).where(sql<boolean>`not run.params ? 'store'`)
  if (filter.kinds?.length) query = query.where('run.kind', 'in', filter.kinds)
  if (filter.states?.length) query = query.where('run.state', 'in', filter.states)
  if (filter.since) query = query.where('run.at', '>=', filter.since)
  if (filter.until) query = query.where('run.at', '<=', filter.until)
  if (filter.text) {
    const within = sql<string>`concat_ws(' ', vessel.name, run.name, run.comment, run.started_by, run.error->>'what')`
    query = query.where(sql<boolean>`position(lower(${filter.text}) in lower(${within})) > 0`)
  }
  if (filter.before) {
    const { at, id } = filter.before
    query = query.where((eb) => eb.or([eb('run.at', '<', at), eb.and([eb('run.at', '=', at), eb('run.id', '<', id)])]))
  }
  return (await query.execute()).map(rowOf)
}

export async function runDetail(engine: EngineContext, id: string): Promise<RunDetail> {
  const row = await selectRuns(engine)
    .select(['run.vessel_version as version', 'run.params', 'run.pace'])
    .where('run.id', '=', id)
    .executeTakeFirst()
  if (!row) {
    throw new VesselError('run_missing', {
      what: 'There is no such run.',
      touched: 'Nothing was changed.',
      next: 'Look at the list of runs.',
      status: 404,
    })
  }
  const { version, params, pace, ...rest } = row
  const [steps, messages, receipts, kept, holds, databases] = await Promise.all([
    engine.db
      .selectFrom('run_step')
      .select([
        'ordinal',
        'member',
        'kind',
        'title',
        'state',
        'started_at as startedAt',
        'finished_at as finishedAt',
        'counters',
        'message',
      ])
      .where('run_id', '=', id)
      .orderBy('ordinal')
      .execute(),
    engine.db.selectFrom('run_message').select(['at', 'level', 'text']).where('run_id', '=', id).orderBy('id').limit(500).execute(),
    engine.db.selectFrom('receipt').selectAll().where('run_id', '=', id).orderBy('ordinal').execute(),
    engine.db.selectFrom('point').select(['id', 'at', 'expires_at as expiresAt']).where('kept_for', '=', id).orderBy('at').execute(),
    holdsOfRun(engine, id),
    databasesOf(engine),
  ])
  const receipt = receipts.map((line): ReceiptLine => ({
    path: line.path,
    of: !line.path.includes('/') ? 'check' : databases.has(namesOf(line.path)[0]!) ? 'database' : 'cluster',
    target: line.target,
    outcome: line.outcome,
    reason: line.reason,
    rows: line.rows === null ? null : Number(line.rows),
    fingerprintThen: line.fingerprint_then,
    fingerprintNow: line.fingerprint_now,
    structureThen: line.structure_then,
    structureNow: line.structure_now,
    equal: line.equal,
    leftParts: line.left_parts,
  }))
  const canBeTakenBack = row.kind === 'restore' && (kept.length > 0 || onlyMade(receipt))
  return {
    ...rowOf(rest),
    version,
    params,
    pace,
    steps: steps.map((step) => ({ ...step, hold: holdOf(step, holds) })),
    messages,
    receipt,
    kept,
    canBeTakenBack,
    holds,
  }
}

/** What a receipt says of things that stood there and were written to. */
export const OVERWRITES: ReceiptLine['outcome'][] = ['replaced', 'merged']

function onlyMade(receipt: ReceiptLine[]): boolean {
  if (receipt.some(({ outcome }) => OVERWRITES.includes(outcome))) return false
  return receipt.some(({ of, outcome }) => of === 'database' && (outcome === 'made' || outcome === 'renamed'))
}

/** Names of the sources that are database servers. */
async function databasesOf(engine: EngineContext): Promise<Set<string>> {
  const rows = await engine.db.selectFrom('source').select('name').where('kind', '=', 'postgres').execute()
  return new Set(rows.map(({ name }) => name))
}

function holdOf({ kind, title, member }: Omit<RunStep, 'hold'>, holds: HoldLine[]): number | null {
  if (kind !== 'prepare' && kind !== 'hold' && kind !== 'release') return null
  const at = holds.findIndex((hold) => hold.name === title && placeInWords(hold.member) === member)
  return at < 0 ? null : at
}
