import type { Trouble } from './trouble'
import { HOME } from './harbour'

const backUp: Trouble = async ({ engine, harbour }) => {
  await engine.startRun({ kind: 'backup', vessel: harbour!.vessel, startedBy: 'the soak', params: { what: 'full' } })
  return 'a full of the cluster begins'
}

/** Stops a workload, and starts it again. */
const hold: Trouble = async ({ engine, harbour }, random) => {
  const step = {
    id: 'rest',
    name: 'rest',
    turn: 0,
    member: `pier/${HOME}`,
    act: { kind: 'scale', workload: 'Deployment', name: random.of(['clerk', 'porter']), replicas: 0 },
    release: null,
    limitMs: 10_000,
    onFailure: 'go on',
  }
  const quiesce = { steps: [step], budgetMs: 3000 + random.below(4000) }
  await engine.startRun({ kind: 'hold', vessel: harbour!.vessel, startedBy: 'the soak', params: { quiesce } })
  return 'a workload is stopped'
}

let copies = 0
const restore: Trouble = async ({ engine, harbour }, random) => {
  const { id: vesselId } = harbour!.vessel
  const points = await engine.db.selectFrom('point').select('id').where('kept_for', 'is', null).where('vessel_id', '=', vesselId).execute()
  if (points.length === 0) return 'there is no point of the cluster yet'
  const point = random.of(points).id
  const params = { point, wish: harbour!.wish(`copy-${++copies}`), reason: 'a soak' }
  await engine.startRun({ kind: 'restore', vessel: harbour!.vessel, startedBy: 'the soak', params })
  return `a restore of the cluster’s point ${point} begins`
}

const restart: Trouble = async ({ harbour }, random) => `the cluster was away for ${await harbour!.restart(random)} ms`

/** What happens to a cluster, and how often beside the rest. */
export const CLUSTER_TROUBLES: [weight: number, trouble: Trouble][] = [
  [3, backUp],
  [2, restore],
  [2, hold],
  [1, restart],
]
