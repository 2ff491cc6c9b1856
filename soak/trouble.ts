import { refAtPosition } from '../core/chain/moment-ref'
import { positionText } from '../engine/sources/postgres/log/pgoutput'
import { requestCancel } from '../engine/catalog/runs'
import { pause, type Application } from './application'
import type { Random } from './random'
import { DATABASE, type World } from './world'

export type Trouble = (world: World, random: Random, application: Application) => Promise<string>

const backUp =
  (what: string): Trouble =>
  async ({ engine, vessel }) => {
    await engine.startRun({ kind: 'backup', vessel, startedBy: 'the soak', params: { what } })
    return `a ${what} begins`
  }

const verify: Trouble = async ({ engine, vessel }) => {
  await engine.startRun({ kind: 'verify', vessel, startedBy: 'the soak' })
  return 'a verification begins'
}

const hold: Trouble = async ({ engine, vessel }, random) => {
  const step = {
    id: 'lock',
    name: 'lock',
    turn: 0,
    member: `db/${DATABASE}`,
    act: { kind: 'sql', statement: 'begin; lock table app.stock in share mode; select pg_sleep(1)' },
    release: { kind: 'sql', statement: 'commit' },
    limitMs: 5000,
    onFailure: 'go on',
  }
  const quiesce = { steps: [step], budgetMs: 3000 + random.below(4000) }
  await engine.startRun({ kind: 'hold', vessel, startedBy: 'the soak', params: { quiesce } })
  return 'a hold begins'
}

let restores = 0
const restore: Trouble = async (world, random, application) => {
  const position = application.moment(random, 0n)
  const points = await world.engine.db
    .selectFrom('point')
    .select('id')
    .where('kept_for', 'is', null)
    .where('vessel_id', '=', world.vessel.id)
    .execute()
  if (points.length === 0 || position === null) return 'there is nothing to restore yet'
  const ref = random.below(2) === 0 ? random.of(points).id : refAtPosition(world.vessel.slug, 'db', positionText(position))
  await world.restore(ref, { into: { mode: 'beside', schema: 'back', prefix: '', suffix: `_${++restores}`, names: {} } })
  return `a restore of ${ref} begins`
}

const cancel: Trouble = async ({ engine }, random) => {
  const runs = await engine.db.selectFrom('run').select(['id', 'kind']).where('state', 'in', ['waiting', 'running']).execute()
  if (runs.length === 0) return 'there is nothing to cancel'
  const { id, kind } = random.of(runs)
  await requestCancel(engine, id).catch(() => undefined)
  return `a ${kind} is cancelled`
}

const kill: Trouble = async ({ workers }, random) => {
  random.of(workers).kill('SIGKILL')
  return 'a worker is killed'
}

const sleep: Trouble = async ({ workers }, random) => {
  const worker = random.of(workers)
  const ms = 3000 + random.below(25_000)
  worker.kill('SIGSTOP')
  setTimeout(() => worker.kill('SIGCONT'), ms)
  return `a worker sleeps for ${ms} ms`
}

const restartCatalog: Trouble = async ({ catalog }, random) => {
  catalog.stop(random.below(2) === 0 ? 'fast' : 'immediate')
  const ms = random.below(8000)
  await pause(ms)
  catalog.start()
  return `the catalog was away for ${ms} ms`
}

const restartSource: Trouble = async ({ source }, random) => {
  await source.halt()
  const ms = random.below(5000)
  await pause(ms)
  source.start()
  return `the source was away for ${ms} ms`
}

/** What happens, and how often beside the rest. */
export const TROUBLES: [weight: number, trouble: Trouble][] = [
  [2, backUp('full')],
  [4, backUp('differential')],
  [1, verify],
  [3, restore],
  [2, hold],
  [2, cancel],
  [2, kill],
  [2, sleep],
  [1, restartCatalog],
  [1, restartSource],
]
