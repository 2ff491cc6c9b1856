import { sql } from 'kysely'
import { Application, pause } from './application'
import { compareCluster } from './checks-cluster'
import { endPlan } from './checks-plan'
import { checkReasons, checkSource, checkStore, compareAll, settle } from './checks'
import { Random } from './random'
import { CLUSTER_TROUBLES } from './trouble-cluster'
import { TROUBLES } from './trouble'
import { DATABASE, World } from './world'

// bin/soak MINUTES SEED: everything at once, with everything that goes wrong in the world, at random; then every state
// that is said to be restorable is restored and compared with what was really there.

const [minutes = 30, seed = 1] = process.argv.slice(2).map(Number)
if (!(minutes > 0 && minutes <= 600) || !Number.isInteger(seed)) {
  console.error('For how many minutes, and with which seed? bin/soak MINUTES SEED')
  process.exit(2)
}
const random = new Random(seed)
const began = Date.now()
const say = (text: string) => console.log(`${((Date.now() - began) / 1000).toFixed(1).padStart(7)}  ${text}`)
process.on('unhandledRejection', (error) => console.error('not handled:', error))

/** A cluster takes as long to be looked at in the end as all else. */
const WITH_CLUSTER_MINUTES = 2
const world = await World.make(minutes >= WITH_CLUSTER_MINUTES)
const application = new Application(world.source.url(DATABASE), new Random(seed + 1))
const wrong: string[] = []
try {
  application.start()
  world.harbour?.start()
  say(`three workers, a catalog and a source are there; seed ${seed}`)
  await world.over(await world.engine.startRun({ kind: 'backup', vessel: world.vessel, startedBy: 'the soak', params: { what: 'full' } }))
  while (Date.now() - began < minutes * 60_000) {
    // The catalog or the source may be away: what can't be asked for now is not.
    say(
      await random
        .weighed(world.harbour ? [...TROUBLES, ...CLUSTER_TROUBLES] : TROUBLES)(world, random, application)
        .catch((error: Error) => `could not be asked for: ${error.message}`),
    )
    await pause(random.below(1500))
  }
  say('the troubles are over')
  for (const worker of world.workers) worker.kill('SIGCONT')
  await application.stop()
  await world.harbour?.stop()
  wrong.push(...(await endPlan(world)))
  wrong.push(...(await settle(world)))
  wrong.push(...(await checkReasons(world)))
  say(`the application did ${application.transactions} transactions`)
  wrong.push(...(await compareAll(world, application, random)))
  if (world.harbour) wrong.push(...(await compareCluster(world, world.harbour)))
  wrong.push(...(await checkStore(world)))
  wrong.push(...checkSource(world))
} catch (error) {
  wrong.push((error as Error).stack ?? String(error))
} finally {
  for (const line of await endsOf(world).catch(() => [])) say(line)
  await world.close()
}
for (const trouble of wrong) console.log(`WRONG ${trouble}`)
say(wrong.length === 0 ? 'all is as it was, and nothing is left' : `${wrong.length} things are wrong`)
process.exit(wrong.length === 0 ? 0 : 1)

/** How runs ended, with the reasons of those that came to nothing. */
async function endsOf({ engine }: World): Promise<string[]> {
  // What was not foreseen is to be read.
  const code = sql<string | null>`case error ->> 'code' when 'internal' then error::text else error ->> 'code' end`
  const rows = await engine.db
    .selectFrom('run')
    .select(({ fn }) => ['kind', 'state', code.as('code'), fn.countAll<number>().as('count')])
    .groupBy(['kind', 'state', code])
    .orderBy('kind')
    .execute()
  return rows.map((row) => `${row.count} × ${row.kind}: ${row.state}${row.code ? ` (${row.code})` : ''}`)
}
