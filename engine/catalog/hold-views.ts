import { sql } from 'kysely'
import { actInWords } from '../../core/quiesce/sequence'
import type { MeasuredStep } from '../../core/quiesce/lanes'
import type { EngineContext } from '../context'
import { Ledger } from '../holds/ledger'
import { programsIn } from '../holds/outside'
import type { HoldState, ReleasedBy, RunKind } from './types'

/** Everything of one run that is held now, for the strip that is on every page. */
export interface OpenHold {
  run: string
  vessel: string
  slug: string
  members: number
  of: number
  /** Milliseconds since the first began, and until all is released by force. */
  since: number
  budget: number
  /** Releases that failed and are tried again. */
  stuck: { id: string; name: string; member: string; how: string; trouble: string; attempts: number; next: number }[]
}

export async function openHolds(engine: EngineContext): Promise<OpenHold[]> {
  const lines = await new Ledger(engine).open()
  const now = Date.now()
  const runs = [...new Set(lines.map(({ run_id: run }) => run))]
  const all = runs.length === 0 ? [] : await engine.db.selectFrom('hold').select(['run_id', 'member']).where('run_id', 'in', runs).execute()
  return runs.map((run) => {
    const ofRun = lines.filter(({ run_id: of }) => of === run)
    const [{ vessel, slug, budget_ms: budget }] = ofRun as [(typeof ofRun)[number]]
    return {
      run,
      vessel,
      slug,
      members: new Set(ofRun.filter(({ held_at: at }) => at !== null).map(({ member }) => member)).size,
      of: new Set(all.filter(({ run_id: of }) => of === run).map(({ member }) => member)).size,
      since: now - Math.min(...ofRun.map(({ begun_at: at }) => at.getTime())),
      budget,
      stuck: ofRun
        .filter(({ attempts }) => attempts > 0)
        .map(({ id, name, member, act, release, trouble, attempts, next_try_at: next }) => ({
          id,
          name,
          member,
          how: actInWords((release ?? act).act),
          trouble: trouble ?? '',
          attempts,
          next: Math.max(0, (next?.getTime() ?? now) - now),
        })),
    }
  })
}

/** One line of the ledger as a person reads it; times are milliseconds from the first step of its run. */
export interface HoldLine extends MeasuredStep {
  state: HoldState
  does: string
  where: string
  output: string
  failure: string | null
  releases: string
  releaseOutput: string
  trouble: string | null
  releasedBy: ReleasedBy | null
}

export async function holdsOfRun(engine: EngineContext, run: string): Promise<HoldLine[]> {
  const rows = await new Ledger(engine).ofRun(run)
  const first = Math.min(...rows.map(({ begun_at: at }) => at.getTime()))
  return rows.map((row) => ({
    name: row.name,
    member: row.member,
    begun: row.begun_at.getTime() - first,
    held: row.held_at && row.held_at.getTime() - first,
    released: row.released_at && row.released_at.getTime() - first,
    state: row.state,
    does: actInWords(row.act.act),
    where: (row.act.pods ?? []).map(({ pod, container }) => `${pod} / ${container}`).join(', '),
    output: row.output,
    failure: row.failure,
    releases: row.release ? actInWords(row.release.act) : '',
    releaseOutput: row.release_output,
    trouble: row.trouble,
    releasedBy: row.released_by,
  }))
}

/** What holding a vessel took the last time, and what steps may do here. */
export interface QuiesceView {
  last: { run: string; kind: RunKind; at: Date; lines: HoldLine[] } | null
  hosts: string[]
  programs: string[]
  folder: string | null
}

export async function quiesceView(engine: EngineContext, vesselId: string | null): Promise<QuiesceView> {
  const { hosts, folder } = engine.hooks
  const row = vesselId
    ? await engine.db
        .selectFrom('run')
        .select(['id', 'kind', 'at'])
        .where('vessel_id', '=', vesselId)
        .where(({ exists, selectFrom }) =>
          exists(
            selectFrom('hold')
              .select(sql`1`.as('one'))
              .whereRef('hold.run_id', '=', 'run.id'),
          ),
        )
        .orderBy('at', 'desc')
        .limit(1)
        .executeTakeFirst()
    : undefined
  const last = row ? { run: row.id, kind: row.kind, at: row.at, lines: await holdsOfRun(engine, row.id) } : null
  return { last, hosts, folder, programs: await programsIn(engine.hooks) }
}
