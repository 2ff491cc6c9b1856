import { dueTimes } from '../core/plan/due'
import { saveDefinition, vesselBySlug } from '../engine/catalog/vessels'
import { pause } from './application'
import type { World } from './world'

const DECIDED_WITHIN_MS = 60_000

/**
 * That every time of the plan had one decision, whatever became of workers and of the catalog. The plan ends with it, so
 * that nothing begins any more.
 */
export async function endPlan({ engine, vessel }: World): Promise<string[]> {
  const now = await vesselBySlug(engine, vessel.slug)
  const { schedule } = now.definition
  const line = schedule!.lines[0]!
  const expected: number[] = []
  for (const at of dueTimes(schedule!, line, 0)) {
    if (at > Date.now()) break
    expected.push(at)
  }
  const decisions = () =>
    engine.db.selectFrom('due').selectAll().where('vessel_id', '=', vessel.id).where('line', '=', line.id).orderBy('due_at').execute()
  const isDecided = async () => ((await decisions()).at(-1)?.last_due_at.getTime() ?? 0) >= (expected.at(-1) ?? 0)
  for (const end = Date.now() + DECIDED_WITHIN_MS; Date.now() < end && !(await isDecided()); await pause(200));
  await saveDefinition(engine, vessel.slug, now.version, { ...now.definition, schedule: undefined })
  const decided: number[] = []
  for (const { due_at: from, last_due_at: to, times } of await decisions()) {
    const before = decided.length
    for (const at of dueTimes(schedule!, line, from.getTime() - 1)) {
      if (at > to.getTime()) break
      decided.push(at)
    }
    if (decided.length - before !== times) return [`a decision of ${times} times stands for ${decided.length - before}`]
  }
  const upToThen = decided.filter((at) => at <= (expected.at(-1) ?? 0))
  return JSON.stringify(upToThen) === JSON.stringify(expected)
    ? []
    : [`the plan was due ${expected.length} times and decided ${upToThen.length}: ${JSON.stringify([expected, upToThen])}`]
}
