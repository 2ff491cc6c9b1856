import { VesselError } from '../../core/errors'
import { retentionTroubles, type Retention } from '../../core/plan/retention'
import { scheduleTroubles, type Schedule } from '../../core/plan/schedule'
import type { EngineContext } from '../context'

/** With what a new vessel begins here: when it is backed up, and how long that stays. */
export interface DefaultPlan {
  schedule: Schedule | null
  retention: Retention | null
}

export async function defaultPlan(engine: EngineContext): Promise<DefaultPlan | null> {
  const row = await engine.db.selectFrom('default_plan').select('plan').executeTakeFirst()
  return row?.plan ?? null
}

/** Vessels that there are keep theirs. @throws VesselError `plan_invalid` */
export async function setDefaultPlan(engine: EngineContext, plan: DefaultPlan): Promise<void> {
  const troubles = [...(plan.schedule ? scheduleTroubles(plan.schedule) : []), ...(plan.retention ? retentionTroubles(plan.retention) : [])]
  if (troubles.length > 0)
    throw new VesselError('plan_invalid', { what: troubles.join(' '), touched: 'Nothing was saved.', next: 'Mend this, then save again.' })
  await engine.db
    .insertInto('default_plan')
    .values({ plan: JSON.stringify(plan) })
    .onConflict((conflict) => conflict.column('one').doUpdateSet({ plan: JSON.stringify(plan) }))
    .execute()
}
