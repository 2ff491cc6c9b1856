import { readdirSync } from 'node:fs'
import { join } from 'node:path'
import { sql } from 'kysely'
import { refAtPosition } from '../core/chain/moment-ref'
import { positionOf } from '../core/chain/position'
import { openStore } from '../engine/catalog/stores'
import { waitForLog } from '../engine/log/wait'
import { positionText } from '../engine/sources/postgres/log/pgoutput'
import { tidyUp } from '../engine/runs/orphans'
import { rebuildIndex } from '../engine/store/rebuild'
import { pause, type Application } from './application'
import type { Random } from './random'
import { DATABASE, type World } from './world'

const MOMENTS = 20
const SETTLED_WITHIN_MS = 600_000

/** Waits until nothing is being done or held any more, whatever came of it. */
export async function settle(world: World): Promise<string[]> {
  const { engine } = world
  const wrong = async () => {
    const runs = await engine.db.selectFrom('run').select(['id', 'kind', 'state']).where('state', 'in', ['waiting', 'running']).execute()
    const holds = await engine.db.selectFrom('hold').select(['id', 'state', 'trouble']).where('state', '<>', 'released').execute()
    const undo = await engine.db.selectFrom('run_undo').select(['run_id', 'kind']).execute()
    return [...runs, ...holds, ...undo].map((remaining) => `is still there: ${JSON.stringify(remaining)}`)
  }
  for (const end = Date.now() + SETTLED_WITHIN_MS; Date.now() < end; await pause(500)) {
    const left = await wrong().catch((error: Error) => [error.message])
    if (left.length === 0) return []
  }
  return [...(await wrong()), ...(await whatGoesOn(world))]
}

/** What runs that do not end were doing last, when they were heard, and what both servers are asked. */
async function whatGoesOn({ engine, catalog, source }: World): Promise<string[]> {
  const { rows } = await sql<{ text: string }>`
    select format('%s %s was heard %s ago; step %s (%s) since %s; %s', run.kind, run.id, now() - run.heartbeat_at, step.title, step.state,
      step.started_at, (select string_agg(text, ' ') from run_message where run_id = run.id)) as text
    from run left join run_step step on step.run_id = run.id and step.state = 'running' where run.state = 'running'`.execute(engine.db)
  const asked = (server: World['source']) =>
    server.psql(
      'postgres',
      `select pid, application_name, state, wait_event, now() - state_change, pg_blocking_pids(pid), left(query, 120)
       from pg_stat_activity where backend_type in ('client backend', 'walsender') and pid <> pg_backend_pid()`,
    )
  return [...rows.map(({ text }) => text), `the catalog:\n${asked(catalog)}`, `the source:\n${asked(source)}`]
}

/** Reasons that nothing which happens here can have: the store is whole all the time. */
const NEVER = ['internal', 'store_damaged', 'content_lost', 'content_damaged', 'content_missing', 'content_gone', 'point_damaged']

export async function checkReasons({ engine }: World): Promise<string[]> {
  const code = sql<string>`error ->> 'code'`
  const rows = await engine.db.selectFrom('run').select(['kind', 'error']).where(code, 'in', NEVER).execute()
  return rows.map(({ kind, error }) => `a ${kind} failed: ${JSON.stringify(error)}`)
}

/** Every point, and moments of the log at random, restored for real and compared with what the application did. */
export async function compareAll(world: World, application: Application, random: Random): Promise<string[]> {
  const { engine, vessel, source } = world
  const member = `db/${DATABASE}`
  await waitForLog(engine, vessel.id, member, source.psql(DATABASE, 'select pg_current_wal_lsn()'), new AbortController().signal)
  const breaks = await engine.db.selectFrom('chain_break').select(['kind', 'reason']).execute()
  const wrong = breaks.map(({ kind, reason }) => `the log broke (${kind}): ${reason}`)
  const points = await engine.db
    .selectFrom('point')
    .innerJoin('point_artifact', 'point_artifact.point_id', 'point.id')
    .innerJoin('artifact', 'artifact.id', 'point_artifact.artifact_id')
    .select(['point.id', 'artifact.position', 'artifact.kind'])
    .where('point.kept_for', 'is', null)
    .where('point.vessel_id', '=', vessel.id)
    .orderBy('artifact.at')
    .execute()
  if (points.length === 0) return [...wrong, 'no point was made']
  const first = positionOf(points[0]!.position)!
  const states: { what: string; ref: string; position: bigint }[] = points.map(({ id, position, kind }) => ({
    what: `the ${kind} at ${position}`,
    ref: id,
    position: positionOf(position)!,
  }))
  for (let i = 0; i < MOMENTS; i++) {
    const position = application.moment(random, first)
    if (position !== null)
      states.push({ what: `the moment ${positionText(position)}`, ref: refAtPosition(vessel.slug, 'db', positionText(position)), position })
  }
  console.log(`${points.length} points and ${states.length - points.length} moments are restored`)
  for (const { what, ref, position } of states) {
    const trouble = await restoredAt(world, application, ref, position).catch((error: Error) => error.message)
    if (trouble) wrong.push(`${what}: ${trouble}`)
  }
  return wrong
}

let copies = 0
async function restoredAt(world: World, application: Application, ref: string, position: bigint): Promise<string | null> {
  const database = `copy_${++copies}`
  const run = await world.over(await world.restore(ref, { into: { mode: 'elsewhere', source: 'db', database } }))
  if (run.state !== 'done' && run.state !== 'warned') return `its restore ended as ${run.state}: ${JSON.stringify(run.error)}`
  const unequal = await world.engine.db
    .selectFrom('receipt')
    .select('path')
    .where('run_id', '=', run.id)
    .where('equal', '=', false)
    .execute()
  const wrong = application.wrongAt(position, world.state(database))
  world.source.psql('postgres', `drop database ${database}`)
  return wrong ?? (unequal.length > 0 ? `not equal: ${unequal.map(({ path }) => path).join()}` : null)
}

/** That a verification finds nothing, the store holds just what the catalog knows, and the index is as one made anew. */
export async function checkStore(world: World): Promise<string[]> {
  const { engine, folder } = world
  const wrong: string[] = []
  const verified = await world.over(await engine.startRun({ kind: 'verify', vessel: world.vessel, startedBy: 'the soak' }))
  if (verified.state !== 'done') wrong.push(`the verification ended as ${verified.state}: ${JSON.stringify(verified.error)}`)
  await world.stopWorkers()
  // What was killed left files behind that nobody may touch as long as others are at work.
  await tidyUp(engine, true)
  const ids = (rows: { id: string }[]) => rows.map(({ id }) => id).sort()
  const files = (of: string) => {
    try {
      return readdirSync(join(folder, 'store', of)).sort()
    } catch {
      return []
    }
  }
  const { db } = engine
  const known = {
    packs: ids(await db.selectFrom('pack').select('id').execute()).map((id) => `${id}.pack`),
    points: ids(await db.selectFrom('point').select('id').execute()).map((id) => `${id}.point`),
    segments: ids(await db.selectFrom('artifact').select('id').where('kind', '=', 'log').execute()).map((id) => `${id}.segment`),
  }
  for (const [of, names] of Object.entries(known)) {
    const there = files(of)
    const [more, less] = [there.filter((name) => !names.includes(name)), names.filter((name) => !there.includes(name))]
    if (more.length > 0) wrong.push(`${of}: nothing knows ${more.join()}`)
    if (less.length > 0) wrong.push(`${of}: not there are ${less.join()}`)
  }
  const uncommitted = await db.selectFrom('pack').select('id').where('committed', '=', false).execute()
  if (uncommitted.length > 0) wrong.push(`${uncommitted.length} packs are of nobody`)
  return [...wrong, ...(await compareIndex(world))]
}

async function compareIndex({ engine }: World): Promise<string[]> {
  const { db } = engine
  const all = () =>
    db
      .selectFrom('chunk')
      .select(['name', 'pack_id', 'position', 'length', 'plain_length', 'base'])
      .orderBy('name')
      .orderBy('pack_id')
      .execute()
  const before = JSON.stringify(await all())
  await db.deleteFrom('chunk').execute()
  await db.deleteFrom('pack').execute()
  const { torn } = await rebuildIndex(await openStore(engine, { name: 'dry-dock' }))
  if (torn.length > 0) return [`packs do not hold together: ${JSON.stringify(torn)}`]
  return JSON.stringify(await all()) === before ? [] : ['the index differs from one that is made anew']
}

/** That nothing of ours is left at the source but what follows its log. To be asked when no worker is there any more. */
export function checkSource({ source }: World): string[] {
  const wrong: string[] = []
  const databases = source.psql(
    'postgres',
    `select datname from pg_database where datname not in ('postgres', 'template0', 'template1', '${DATABASE}')`,
  )
  if (databases) wrong.push(`databases are left: ${databases.replaceAll('\n', ', ')}`)
  const slots = source.psql('postgres', 'select count(*) from pg_replication_slots')
  if (slots !== '1') wrong.push(`${slots} slots are left`)
  const sessions = source.psql('postgres', `select application_name from pg_stat_activity where application_name like 'unbroken-vessel%'`)
  if (sessions) wrong.push(`sessions are left: ${sessions.replaceAll('\n', ', ')}`)
  return wrong
}
