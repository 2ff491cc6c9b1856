import pg from 'pg'
import { wishOf } from '../core/restore/wish'
import { addRun } from '../engine/catalog/runs'
import { pauseVessel } from '../engine/catalog/pauses'
import { newestPoint } from '../engine/catalog/points'
import { saveRestore } from '../engine/catalog/saved-restores'
import { addSource, discoverSource } from '../engine/catalog/sources'
import { addStore, setPruneTimes } from '../engine/catalog/stores'
import { defaultLog } from '../core/plan/definition'
import { addVessel, saveDefinition, vesselBySlug, type Vessel } from '../engine/catalog/vessels'
import type { RunKind } from '../engine/catalog/types'
import type { Engine } from '../engine/engine'
import { perform } from '../engine/runs/runner'
import { pinPoint } from '../engine/retention/pins'
import { openLosses, wasMeant } from '../engine/watch/losses'
import { dueBetween, KEPT_OF_BOOKINGS, KEPT_OF_CREW, letPlansGo, pausedWeekend, planOfBookings, planOfCrew, PRUNED } from './plans'
import { sellTickets, takeShifts } from './traffic'

// Three weeks of Quellmark Ferries, made by really backing its databases up while a scenario clock runs fast.

const HOUR = 3_600_000
const DAY = 24 * HOUR

/** A clock that can be set to where the scenario is, and goes on from there as clocks do. */
export class ScenarioClock {
  /** Real times, ascending, and how far ahead the scenario is from each of them on. */
  private readonly jumps: { since: number; ahead: number }[] = [{ since: 0, ahead: 0 }]

  now(): Date {
    return new Date(Date.now() + this.jumps.at(-1)!.ahead)
  }

  /** The scenario's time when a source's own clock, which tells the real one, showed `at`. */
  ofSource(at: Date): Date {
    const jump = this.jumps.findLast(({ since }) => since <= at.getTime())!
    return new Date(at.getTime() + jump.ahead)
  }

  set(at: Date | undefined): void {
    const now = Date.now()
    this.jumps.push({ since: now, ahead: at ? at.getTime() - now : 0 })
  }
}

export interface Scenario {
  engine: Engine
  clock: ScenarioClock
  harbour: { host: string; port: number; user: string; password: string }
  /** Changes the password of the connecting role at the server. */
  changePassword: (to: string) => void
  store: string
  /** Told what is being done, for the person who waits. */
  say: (text: string) => void
}

interface Happening {
  at: Date
  does: () => Promise<unknown>
}

/** Local midnight of the day that lies `days` before `now`. */
function midnight(now: Date, days: number): number {
  const date = new Date(now)
  date.setHours(0, 0, 0, 0)
  date.setDate(date.getDate() - days)
  return date.getTime()
}

const daysSince = (now: Date, weekday: number) => (now.getDay() - weekday + 7) % 7 || 7

export async function makeHistory(scenario: Scenario, now: Date): Promise<void> {
  const { engine, clock, harbour } = scenario
  const connection = { host: '127.0.0.1', port: harbour.port, user: harbour.user, password: harbour.password }
  const bookings = new pg.Client({ ...connection, database: 'bookings', application_name: 'ticket office' })
  const crewing = new pg.Client({ ...connection, database: 'crewing', application_name: 'crew office' })
  await Promise.all([bookings.connect(), crewing.connect()])
  try {
    clock.set(new Date(midnight(now, 21)))
    const vessels = await define(scenario)
    await engine.work({ alone: true })
    await letPlansGo(scenario)
    const source = (await engine.db.selectFrom('source').select('id').executeTakeFirstOrThrow()).id
    const happenings = [...daily(scenario, vessels, bookings, crewing, now), ...incidents(scenario, vessels, bookings, source, now)]
    for (const { at, does } of happenings.sort((a, b) => a.at.getTime() - b.at.getTime())) {
      if (at >= now) continue
      clock.set(at)
      await does()
    }
    clock.set(undefined)
    await discoverSource(engine, source)
    await lendScratch(scenario, vessels.bookings)
    await pinBefore(engine, vessels.bookings)
    await sayMeant(engine)
  } finally {
    clock.set(undefined)
    await Promise.all([bookings.end(), crewing.end()])
  }
}

interface Vessels {
  bookings: Vessel
  crew: Vessel
}

async function define({ engine, harbour, store }: Scenario): Promise<Vessels> {
  await addStore(engine, { name: 'dry-dock', path: store })
  await addSource(engine, {
    name: 'ferry-db',
    password: harbour.password,
    settings: { host: harbour.host, port: harbour.port, user: harbour.user, database: 'postgres', tls: 'off' },
  })
  const { id } = await engine.db.selectFrom('store').select('id').executeTakeFirstOrThrow()
  await setPruneTimes(engine, id, PRUNED)
  const common = { store: 'dry-dock', readers: 2 }
  const bookings = await addVessel(engine, 'Bookings', {
    ...common,
    promises: { couldLose: HOUR, backWithin: HOUR },
    log: { ...defaultLog(true), keepAtMost: 256 * 1024 * 1024 },
    schedule: planOfBookings(engine.clock.now()),
    retention: KEPT_OF_BOOKINGS,
    rules: [
      { id: 'a', act: 'take', kind: 'database', pattern: 'ferry-db/bookings' },
      { id: 'b', act: 'leave', kind: 'thing', pattern: 'ferry-db/bookings/*/tmp_*' },
    ],
  })
  const crew = await addVessel(engine, 'Crew rota', {
    ...common,
    promises: { couldLose: DAY, backWithin: 30 * 60_000 },
    schedule: planOfCrew(engine.clock.now()),
    retention: KEPT_OF_CREW,
    rules: ['roster', 'payroll'].map((schema) => ({ id: schema, act: 'take', kind: 'schema', pattern: `ferry-db/crewing/${schema}` })),
  })
  return { bookings, crew }
}

function run(
  { engine }: Scenario,
  kind: RunKind,
  vessel: Vessel,
  more: { name?: string; startedBy?: string; params?: Record<string, unknown> } = {},
) {
  return async () => {
    const id = await addRun(engine, { kind, vessel, startedBy: more.startedBy ?? 'the schedule of the demo', ...more })
    await perform(engine, id)
    return id
  }
}

function daily(scenario: Scenario, vessels: Vessels, bookings: pg.Client, crewing: pg.Client, now: Date): Happening[] {
  const happenings: Happening[] = []
  for (let days = 21; days >= 0; days--) {
    const day = midnight(now, days)
    for (const hour of [7, 13, 19]) {
      const at = new Date(day + hour * HOUR)
      happenings.push({ at, does: () => sellTickets(bookings, 120, at) })
      happenings.push({ at, does: () => takeShifts(crewing, 30, at) })
    }
    if (days <= 2) happenings.push(...trickle(bookings, day))
    if (days % 5 === 0)
      happenings.push({ at: new Date(day + HOUR), does: async () => scenario.say(days === 0 ? 'today' : `${days} days ago`) })
  }
  // Nobody was there in one night: what was due then is missed, and told so.
  const missed = midnight(now, 11)
  for (const at of dueBetween(new Date(midnight(now, 21)), now))
    if (at.getTime() < missed || at.getTime() > missed + 8 * HOUR) happenings.push({ at, does: () => letPlansGo(scenario) })
  const weekend = pausedWeekend(now)
  const move = { reason: 'the crew office moves', until: weekend.to, by: 'Ansa Vik' }
  happenings.push({ at: weekend.from, does: () => pauseVessel(scenario.engine, vessels.crew.slug, move) })
  // Just now, so that the lifelines reach to the present whatever the hour.
  happenings.push({
    at: new Date(now.getTime() - 26 * 60_000),
    does: run(scenario, 'backup', vessels.bookings, { name: 'before the fare change', startedBy: 'Mira Orrin' }),
  })
  return happenings
}

/** Tickets are sold all day, more of them when people are awake. */
function trickle(bookings: pg.Client, day: number): Happening[] {
  return Array.from({ length: 72 }, (_, i) => {
    const at = new Date(day + i * 20 * 60_000 + ((i * 7919) % 600_000))
    const busy = Math.sin(((at.getTime() - day) / DAY) * Math.PI)
    return { at, does: () => sellTickets(bookings, Math.max(1, Math.round(14 * busy * busy)), at) }
  })
}

function incidents(scenario: Scenario, vessels: Vessels, bookings: pg.Client, source: string, now: Date): Happening[] {
  const { engine, changePassword, harbour } = scenario
  const sunday = midnight(now, daysSince(now, 0)) + 13 * HOUR + 20 * 60_000
  const thursday = midnight(now, daysSince(now, 4)) + 22 * HOUR
  // It commits a little more than a second after it begins.
  const yesterday = midnight(now, 1) + 9 * HOUR + 41 * 60_000 + 5800
  return [
    { at: new Date(sunday), does: () => bookings.query('drop table loyalty.voucher') },
    { at: new Date(sunday + 5 * 60_000), does: () => discoverSource(engine, source) },
    // The fare clean-up takes legs that are still valid.
    {
      at: new Date(yesterday),
      does: () => cleanUpFares(harbour),
    },
    // Somebody switched the log off for a while, and on again.
    { at: new Date(midnight(now, 5) + 15 * HOUR), does: () => switchLog(scenario, vessels.bookings, false) },
    { at: new Date(midnight(now, 5) + 15 * HOUR + 40 * 60_000), does: () => switchLog(scenario, vessels.bookings, true) },
    // Somebody changed the password and told nobody until the morning.
    { at: new Date(thursday), does: async () => changePassword('changed by somebody') },
    { at: new Date(thursday + 60_000), does: run(scenario, 'backup', vessels.crew, { name: 'before the new rota' }) },
    { at: new Date(thursday + 3 * HOUR), does: async () => changePassword(harbour.password) },
    { at: new Date(midnight(now, 2) + 11 * HOUR), does: run(scenario, 'verify', vessels.bookings, { startedBy: 'Tove Lund' }) },
    { at: new Date(midnight(now, 3) + 15 * HOUR), does: () => proveCopy(scenario, vessels.bookings, bookings, 'timetable/sailing') },
    { at: new Date(midnight(now, 9) + 15 * HOUR), does: () => proveCopy(scenario, vessels.crew, null, 'roster/crew_member') },
  ]
}

async function cleanUpFares({ port, user, password }: Scenario['harbour']): Promise<void> {
  const client = new pg.Client({ host: '127.0.0.1', port, user, password, database: 'bookings', application_name: 'fare-cleanup' })
  await client.connect()
  await client.query('begin')
  await client.query(
    `delete from sales.booking_leg where leg_id in (select leg_id from sales.booking_leg where fare = 84 and status = 'paid' order by leg_id desc limit 1843)`,
  )
  // It thinks for a while before it commits, as such programs do.
  await client.query('select pg_sleep(1.2)')
  await client.query('commit')
  await client.end()
}

/** Switches the log of a vessel off or on, and waits until that is so. */
async function switchLog({ engine }: Scenario, { slug, id }: Vessel, follow: boolean): Promise<void> {
  const { version, definition } = await vesselBySlug(engine, slug)
  await saveDefinition(engine, slug, version, { ...definition, log: { ...defaultLog(true), ...definition.log, follow } })
  for (;;) {
    const row = await engine.db.selectFrom('follower').select('state').where('vessel_id', '=', id).executeTakeFirst()
    const busy = await engine.db.selectFrom('run').select('id').where('state', 'in', ['waiting', 'running']).executeTakeFirst()
    if (!busy && (follow ? row?.state === 'following' : !row)) return
    await new Promise((resolve) => setTimeout(resolve, 100))
  }
}

/** Whoever proves a backup by a copy drops that copy on purpose, and says so. */
async function sayMeant(engine: Engine): Promise<void> {
  for (const { key, paths } of await openLosses(engine)) if (paths.every((path) => path.includes('_then_'))) await wasMeant(engine, key)
}

/** A point of last week that somebody wants to keep. */
async function pinBefore(engine: Engine, { id }: Vessel): Promise<void> {
  const weekAgo = new Date(engine.clock.now().getTime() - 6 * DAY)
  const point = await engine.db
    .selectFrom('point')
    .select('id')
    .where('vessel_id', '=', id)
    .where('at', '<', weekAgo)
    .orderBy('at', 'desc')
    .limit(1)
    .executeTakeFirst()
  if (point) await pinPoint(engine, point.id, { reason: 'before the winter timetable', until: null, by: 'Tove Lund' })
}

/** A restore that is run every Monday, and a scratch copy that somebody looks into at the moment. */
async function lendScratch(scenario: Scenario, vessel: Vessel): Promise<void> {
  const { engine } = scenario
  const into = { mode: 'scratch' as const, source: 'ferry-db', hours: 72 }
  const fares = wishOf({ picks: ['sales', 'timetable'].map((schema) => `ferry-db/bookings/${schema}`), into })
  await saveRestore(engine, vessel, 'Monday’s check of the fares', fares, 'to look for odd fares')
  const point = await newestPoint(engine, vessel)
  const wish = wishOf({ picks: ['ferry-db/bookings/timetable'], into })
  await run(scenario, 'restore', vessel, { startedBy: 'Ansa Vik', params: { point, wish, reason: null } })()
}

/** Restores a table beside the original, which proves it, and drops the copy again. */
async function proveCopy(scenario: Scenario, vessel: Vessel, client: pg.Client | null, path: string): Promise<void> {
  const { engine, harbour } = scenario
  const database = client ? 'bookings' : 'crewing'
  const point = await newestPoint(engine, vessel)
  const into = { mode: 'beside' as const, schema: null, prefix: '', suffix: '', names: {} }
  const wish = wishOf({ picks: [`ferry-db/${database}/${path}`], into })
  const id = await run(scenario, 'restore', vessel, { startedBy: 'Tove Lund', params: { point, wish, reason: null } })()
  const copy = await engine.db.selectFrom('receipt').select('target').where('run_id', '=', id).executeTakeFirstOrThrow()
  const cleaner = new pg.Client({ host: '127.0.0.1', port: harbour.port, user: harbour.user, password: harbour.password, database })
  await cleaner.connect()
  await cleaner.query(`drop table ${copy.target}`)
  await cleaner.end()
}
