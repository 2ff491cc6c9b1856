import type { Generated } from 'kysely'
import type { Pause } from '../../core/plan/state'
import type { Json, Time } from './columns'
import type { DefaultPlan } from './default-plan'

/** What a run of a plan knows of it, in its params; and a point of its run. */
export interface PlannedAs {
  line: string
  name: string
  dueAt: string
  place: number
  of: number
}

/** Tables of the catalog that plans are carried out by. */
export interface PlanCatalog {
  /** With what new vessels begin; one line. */
  default_plan: { one: Generated<boolean>; plan: Json<DefaultPlan> }
  /** Of a source, or of everything where there is none. */
  wider_pause: { source_id: string | null; pause: Json<Pause> }
  /** Up to when it was decided what is due of a line, and of which times that was. */
  plan_line: { vessel_id: string; line: string; decided_until: Time; shape: string }
  due: {
    id: string
    vessel_id: string
    line: string
    /** What the line was called then. */
    name: string
    /** The first and the last of the times that this decides; only those that were missed are more than one. */
    due_at: Time
    last_due_at: Time
    times: number
    outcome: DueOutcome
    why: string | null
    /** The newest run that was begun for it. */
    run_id: string | null
    tries: Generated<number>
    next_try_at: Time | null
    /** When its window closes; null where it has none. */
    closes_at: Time | null
    /** Whether nothing is done about it any more. */
    settled: boolean
    decided_at: Time
  }
}

export type DueOutcome = 'run' | 'missed' | 'left out'
