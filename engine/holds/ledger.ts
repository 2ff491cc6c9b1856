import { randomUUID } from 'node:crypto'
import type { HoldStep } from '../../core/quiesce/sequence'
import type { StepValues } from '../../core/quiesce/values'
import type { HoldState, ReleasedBy } from '../catalog/types'
import type { EngineContext } from '../context'
import { notify } from '../notify'
import { SILENT_MS } from '../runs/context'
import type { PlacedAct } from '../sources/source'

/** One line of the ledger: something that is held, or was. */
export interface Hold {
  id: string
  runId: string
  vesselId: string
  name: string
  member: string
  act: PlacedAct
  release: PlacedAct | null
  limitMs: number
  /** Of all steps before, and its own. */
  known: Record<string, StepValues>
  state: HoldState
  attempts: number
}

/** After the budget the run itself releases; after this the watchdogs do. */
const GRACE_MS = 2000
/** A release that takes longer than its limit and this is taken over by somebody else. */
const CLAIM_GRACE_MS = 5000
const MOST_BACKOFF_MS = 60_000
/** A release gets at least as long, however short the step's own limit is. */
export const RELEASE_MS = 10_000

const columns = [
  'id',
  'run_id as runId',
  'vessel_id as vesselId',
  'name',
  'member',
  'act',
  'release',
  'limit_ms as limitMs',
  'known',
  'state',
  'attempts',
] as const

export class Ledger {
  constructor(private readonly engine: EngineContext) {}

  private get db() {
    return this.engine.db
  }

  /** Writes down how something will be released. It is committed when this resolves; only then may it be held. */
  async begin(
    run: { id: string; vesselId: string },
    step: HoldStep,
    ordinal: number,
    placed: { act: PlacedAct; release: PlacedAct | null },
    budgetMs: number,
    end: number,
    known: Record<string, StepValues>,
  ): Promise<Hold> {
    const id = randomUUID()
    const row = {
      id,
      run_id: run.id,
      vessel_id: run.vesselId,
      ordinal,
      name: step.name,
      member: step.member,
      act: JSON.stringify(placed.act),
      release: placed.release && JSON.stringify(placed.release),
      limit_ms: Math.round(step.limitMs),
      budget_ms: Math.round(budgetMs),
      known: JSON.stringify(known),
      state: 'beginning' as const,
      begun_at: new Date(),
      overdue_at: new Date(end + GRACE_MS),
    }
    await this.db.insertInto('hold').values(row).execute()
    await this.tell(run.id)
    return {
      id,
      runId: run.id,
      vesselId: run.vesselId,
      name: step.name,
      member: step.member,
      ...placed,
      limitMs: step.limitMs,
      known,
      state: 'beginning',
      attempts: 0,
    }
  }

  /** What came of the act. A failure leaves it in the ledger all the same: it may hold something. */
  async held({ id, runId }: Hold, result: { output: string; failure: string | null }, known: Record<string, StepValues>): Promise<void> {
    await this.db
      .updateTable('hold')
      .set({
        output: result.output,
        failure: result.failure,
        known: JSON.stringify(known),
        ...(result.failure ? {} : { held_at: new Date() }),
      })
      .where('id', '=', id)
      .execute()
    await this.db.updateTable('hold').set({ state: 'held' }).where('id', '=', id).where('state', '=', 'beginning').execute()
    await this.tell(runId)
  }

  /** Takes a hold for releasing it; null when somebody else does, or has. */
  async claim({ id, limitMs }: Pick<Hold, 'id' | 'limitMs'>): Promise<Hold | null> {
    const row = await this.db
      .updateTable('hold')
      .set({ state: 'releasing', claimed_until: new Date(Date.now() + releaseLimit(limitMs) + CLAIM_GRACE_MS) })
      .where('id', '=', id)
      .where('state', '<>', 'released')
      .where((eb) => eb.or([eb('claimed_until', 'is', null), eb('claimed_until', '<', new Date())]))
      .returning(columns)
      .executeTakeFirst()
    if (row) await this.tell(row.runId)
    return row ?? null
  }

  async released({ id, runId }: Hold, by: ReleasedBy, output: string): Promise<void> {
    await this.db
      .updateTable('hold')
      .set({
        state: 'released',
        released_at: new Date(),
        claimed_until: null,
        next_try_at: null,
        trouble: null,
        release_output: output,
        released_by: by,
      })
      .where('id', '=', id)
      .execute()
    await this.tell(runId)
  }

  /** A release that failed is tried again, after a second at first, after a minute at last; for ever. */
  async stuck({ id, runId, attempts }: Hold, trouble: string, output: string): Promise<void> {
    const wait = Math.min(MOST_BACKOFF_MS, 1000 * 2 ** Math.min(attempts, 10))
    await this.db
      .updateTable('hold')
      .set({
        state: 'stuck',
        claimed_until: null,
        attempts: attempts + 1,
        next_try_at: new Date(Date.now() + wait),
        trouble,
        release_output: output,
      })
      .where('id', '=', id)
      .execute()
    await this.tell(runId)
  }

  ofRun(runId: string) {
    return this.db.selectFrom('hold').selectAll().where('run_id', '=', runId).orderBy('ordinal').execute()
  }

  /** Everything that is held, or may be. */
  open() {
    return this.db
      .selectFrom('hold')
      .innerJoin('run', 'run.id', 'hold.run_id')
      .innerJoin('vessel', 'vessel.id', 'hold.vessel_id')
      .selectAll('hold')
      .select(['vessel.name as vessel', 'vessel.slug', 'run.state as runState'])
      .where('hold.state', '<>', 'released')
      .orderBy('hold.begun_at')
      .orderBy('hold.ordinal')
      .execute()
  }

  /** What nobody will release by himself: overdue, of a run that is over or whose worker is silent, or due to be tried again. */
  overdue(): Promise<Pick<Hold, 'id' | 'limitMs'>[]> {
    const now = new Date()
    return this.db
      .selectFrom('hold')
      .innerJoin('run', 'run.id', 'hold.run_id')
      .select(['hold.id', 'hold.limit_ms as limitMs'])
      .where('hold.state', '<>', 'released')
      .where((eb) => eb.or([eb('claimed_until', 'is', null), eb('claimed_until', '<', now)]))
      .where((eb) =>
        eb.or([
          eb('next_try_at', '<=', now),
          eb.and([
            eb('next_try_at', 'is', null),
            eb.or([
              eb('overdue_at', '<=', now),
              eb('run.state', 'not in', ['running', 'waiting']),
              eb('run.heartbeat_at', '<', new Date(now.getTime() - SILENT_MS)),
            ]),
          ]),
        ]),
      )
      .orderBy('hold.ordinal', 'desc')
      .execute()
  }

  private tell(run: string): Promise<void> {
    return notify(this.db, { about: 'hold', run })
  }
}

export const releaseLimit = (limitMs: number) => Math.max(RELEASE_MS, limitMs)
