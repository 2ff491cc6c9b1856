import { randomUUID } from 'node:crypto'
import { sql } from 'kysely'
import type { HoldStep } from '../../core/quiesce/sequence'
import type { StepValues } from '../../core/quiesce/values'
import { namesOf } from '../../core/things/thing'
import { storable, storableIn } from '../../core/storable'
import type { HoldState, ReleasedBy } from '../catalog/types'
import type { EngineContext } from '../context'
import { notify } from '../notify'
import { SILENT_MS } from '../runs/context'
import { giveBack, leasedBy } from './lease'
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

/** A line that has to be released, with what orders it: the last turn of a run goes first. */
export type Overdue = Pick<Hold, 'id' | 'limitMs' | 'runId'> & { turn: number }

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
      turn: step.turn,
      name: step.name,
      member: step.member,
      act: JSON.stringify(placed.act),
      release: placed.release && JSON.stringify(placed.release),
      limit_ms: Math.round(step.limitMs),
      budget_ms: Math.round(budgetMs),
      known: JSON.stringify(known),
      state: 'beginning' as const,
      begun_at: sql<Date>`now()`,
      overdue_at: fromNow(end - Date.now() + GRACE_MS),
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

  /**
   * What came of the act. A failure leaves it in the ledger all the same: it may hold something.
   *
   * @returns false when it was released, or is being, while it still began: then it has to be released once more
   */
  async held({ id, runId }: Hold, result: { output: string; failure: string | null }, known: Record<string, StepValues>): Promise<boolean> {
    const row = await this.db
      .updateTable('hold')
      .set({
        state: sql`case state when 'beginning' then 'held' else state end`,
        output: storable(result.output),
        failure: result.failure === null ? null : storable(result.failure),
        known: JSON.stringify(storableIn(known)),
        ...(result.failure ? {} : { held_at: sql<Date>`now()` }),
      })
      .where('id', '=', id)
      .returning('state')
      .executeTakeFirst()
    await this.tell(runId)
    return row?.state === 'held'
  }

  /** Whether what begins is still to begin: nobody releases it. */
  async isWanted({ id }: Pick<Hold, 'id'>): Promise<boolean> {
    const row = await this.db.selectFrom('hold').select('state').where('id', '=', id).executeTakeFirst()
    return row?.state === 'beginning'
  }

  /** Takes a hold for releasing it; null when somebody else does, or has. */
  async claim({ id, limitMs }: Pick<Hold, 'id' | 'limitMs'>, by: ReleasedBy): Promise<Hold | null> {
    const row = await this.db
      .updateTable('hold')
      .set({
        state: 'releasing',
        claimed_until: fromNow(releaseLimit(limitMs) + CLAIM_GRACE_MS),
        let_go_at: sql`coalesce(let_go_at, now())`,
        let_go_by: sql`coalesce(let_go_by, ${by})`,
      })
      .where('id', '=', id)
      .where('state', '<>', 'released')
      .where((eb) => eb.or([eb('claimed_until', 'is', null), eb('claimed_until', '<', sql<Date>`now()`)]))
      .returning(columns)
      .executeTakeFirst()
    if (row) await this.tell(row.runId)
    return row ?? null
  }

  async released({ id, runId, member, act: { act } }: Hold, by: ReleasedBy, output: string): Promise<void> {
    await this.db
      .updateTable('hold')
      .set({
        state: 'released',
        released_at: sql<Date>`now()`,
        claimed_until: null,
        next_try_at: null,
        trouble: null,
        release_output: storable(output),
        released_by: by,
      })
      .where('id', '=', id)
      .execute()
    const [source, namespace] = namesOf(member) as [string, string]
    if (act.kind === 'scale') await giveBack(this.db, leasedBy(source, namespace, act), runId)
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
        next_try_at: fromNow(wait),
        trouble: storable(trouble),
        release_output: storable(output),
      })
      .where('id', '=', id)
      .execute()
    await this.tell(runId)
  }

  /**
   * When somebody else than the run first began to release what it held; null when nobody did. In milliseconds by the
   * clock of this process, and no later than it was: the catalog's clock may be another one.
   */
  async letGoByOthers(runId: string): Promise<number | null> {
    const asked = Date.now()
    const row = await this.db
      .selectFrom('hold')
      .select(sql<number | null>`(extract(epoch from clock_timestamp() - min(let_go_at)) * 1000)::float8`.as('ago'))
      .where('run_id', '=', runId)
      .where('let_go_by', '<>', 'run')
      .executeTakeFirstOrThrow()
    return row.ago === null ? null : asked - row.ago
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

  /** Holds that have to be released from here: overdue ones, those of a run that is over or whose worker is silent, and those whose release is due to be tried again. */
  overdue(): Promise<Overdue[]> {
    const now = sql<Date>`now()`
    return this.db
      .selectFrom('hold')
      .innerJoin('run', 'run.id', 'hold.run_id')
      .select(['hold.id', 'hold.limit_ms as limitMs', 'hold.run_id as runId', 'hold.turn'])
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
              eb('run.heartbeat_at', '<', fromNow(-SILENT_MS)),
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

/** A time by the catalog's clock. */
const fromNow = (ms: number) => sql<Date>`now() + make_interval(secs => ${ms / 1000})`

export const releaseLimit = (limitMs: number) => Math.max(RELEASE_MS, limitMs)
