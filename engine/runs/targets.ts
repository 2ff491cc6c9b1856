import { setTimeout } from 'node:timers/promises'
import { takeTarget } from '../holds/lease'
import type { PostgresAccess } from '../sources/postgres/connect'
import type { RunContext } from './context'
import type { PlannedWish } from './restore-plan'

const AGAIN_MS = 500

/** A place that is written into; one server may be known under several names. */
export interface Target {
  place: string[]
  words: string
}

export const databaseTarget = ({ name, settings }: PostgresAccess, database: string): Target => ({
  place: ['database', settings.host, String(settings.port), database],
  words: `${name} / ${database}`,
})

export const targetsOf = ({ databases, namespaces }: PlannedWish): Target[] => [
  ...databases.map(({ access, database }) => databaseTarget(access, database)),
  ...namespaces.map(({ access, plan }) => ({ place: ['namespace', access.id, plan.into], words: `${access.name} / ${plan.into}` })),
]

/**
 * Has all places for a run alone until its end: two that write into one would each keep, and prove, what the other is
 * overwriting. Returns whether another run was waited for, so that what stood there may be otherwise by now.
 */
export async function holdTargets(run: RunContext, targets: Target[]): Promise<boolean> {
  // In one order for all runs, so that no two wait for each other.
  const ordered = [...new Map(targets.map((target) => [JSON.stringify(target.place), target]))].sort(([a], [b]) => (a < b ? -1 : 1))
  let waited = false
  for (const [, { place, words }] of ordered) {
    while (!(await takeTarget(run.engine.db, place, run.id))) {
      if (!waited) await run.say('info', `Another restore writes into ${words}; this one begins when that is over.`)
      waited = true
      await setTimeout(AGAIN_MS, undefined, { signal: run.signal })
    }
  }
  return waited
}
