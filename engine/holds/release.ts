import { errorRecord, VesselError } from '../../core/errors'
import { actInWords } from '../../core/quiesce/sequence'
import { grouped } from '../../core/grouped'
import { namesOf } from '../../core/things/thing'
import { storable } from '../../core/storable'
import { isAway, patiently } from '../catalog/connect'
import { openSource } from '../catalog/sources'
import type { ReleasedBy } from '../catalog/types'
import type { EngineContext } from '../context'
import type { ActJob, ActResult, Holder, HeldSession } from '../sources/source'
import type { Act } from '../../core/quiesce/sequence'
import { Ledger, releaseLimit, type Hold, type Overdue } from './ledger'
import { outsideHolder } from './outside'

/** Who does an act on a member: its source, or we ourselves. */
export async function holderFor(engine: EngineContext, member: string, act: Act): Promise<Holder> {
  if (act.kind === 'http' || act.kind === 'program') return outsideHolder(engine.hooks)
  return (await openSource(engine, namesOf(member)[0]!)).source.holder
}

/** The name that a hold's session bears at its source. */
export const markOf = (id: string) => `unbroken-vessel hold ${id}`

/** How long a catalog may take to say who releases; after that, who holds it releases it by what he remembers. */
const CATALOG_WITHIN_MS = 2000

/** What a run remembers of what it holds, so that it can release it whatever the catalog does. */
export interface Remembered {
  hold: Hold
  session: HeldSession | undefined
  /** Who does its acts: to ask for them needs the catalog. */
  holderFor: (act: Act) => Promise<Holder>
  /** Released, by the ledger, while it still began: it is released once more. */
  again?: boolean
}

type Means = Pick<Remembered, 'session' | 'holderFor'>

/**
 * Releases what one line of the ledger holds, unless somebody else does. Whatever happens is in the ledger, as soon as the
 * catalog takes it.
 * @returns whether it is released now by this call; false also when it failed and will be tried again
 */
export async function release(
  engine: EngineContext,
  line: Pick<Hold, 'id' | 'limitMs'>,
  by: ReleasedBy,
  remembered?: Remembered,
): Promise<boolean> {
  const ledger = new Ledger(engine)
  const hold = remembered?.again ? remembered.hold : remembered ? await claimSoon(ledger, remembered, by) : await ledger.claim(line, by)
  if (!hold) return false
  const { result, done } = await releaseBy(
    hold,
    remembered ?? { session: undefined, holderFor: (act) => holderFor(engine, hold.member, act) },
  )
  const written = patiently(() => record(engine, ledger, hold, by, result))
  // The run goes on; it is written down when the catalog is there again.
  await Promise.race([written, new Promise((resolve) => setTimeout(resolve, CATALOG_WITHIN_MS).unref())])
  written.catch((error: Error) => console.error(`the release of “${hold.name}” on ${hold.member} could not be recorded: ${error.message}`))
  return done
}

/** The claim of whoever holds it; what he remembers when the catalog does not answer, null when somebody else releases it. */
async function claimSoon(ledger: Ledger, { hold }: Remembered, by: ReleasedBy): Promise<Hold | null> {
  const claim = ledger.claim(hold, by).catch((error: unknown) => {
    if (isAway(error)) return hold
    throw error
  })
  const late = new Promise<Hold>((resolve) => setTimeout(() => resolve(hold), CATALOG_WITHIN_MS).unref())
  return Promise.race([claim, late])
}

async function releaseBy(hold: Hold, means: Means): Promise<{ result: ActResult; done: boolean }> {
  const result = await performRelease(hold, means).catch((error: unknown): ActResult => ({
    output: '',
    values: {},
    failure: errorRecord(error).what,
  }))
  return { result, done: result.failure === null || result.moot === true }
}

async function record(engine: EngineContext, ledger: Ledger, hold: Hold, by: ReleasedBy, result: ActResult): Promise<void> {
  if (result.failure === null || result.moot) {
    const note = result.failure === null ? '' : `${result.failure} It holds nothing any more.`
    await ledger.released(hold, by, [result.output, note].filter(Boolean).join('\n'))
    if (by === 'watchdog') await say(engine, hold, 'warning', `A watchdog released “${hold.name}” on ${hold.member}.`)
    return
  }
  await ledger.stuck(hold, result.failure, result.output)
  const text = `The release of “${hold.name}” on ${hold.member} failed: ${result.failure} It is tried again and again.`
  if (hold.attempts === 0) await say(engine, hold, 'error', text)
  console.error(text)
}

async function performRelease(hold: Hold, { session, holderFor }: Means): Promise<ActResult> {
  const { member, act, release: placed, known, limitMs, id } = hold
  const [, place] = namesOf(member) as [string, string]
  const limit = releaseLimit(limitMs)
  const job = (what: NonNullable<Hold['release']>): ActJob => ({
    place,
    placed: what,
    values: known,
    limitMs: limit,
    holdMs: limit,
    mark: markOf(id),
    signal: AbortSignal.timeout(limit + 1000),
  })
  if (act.act.kind === 'sql') {
    const performed = placed?.act.kind === 'sql' && session?.isOpen ? await session.perform(job(placed)) : null
    await session?.close()
    if (performed?.failure === null) return performed
    // Whoever held the session is gone, or it did not answer: the server ends it, and all that it holds.
    await (await holderFor(act.act)).endSession?.(place, markOf(id))
  }
  if (!placed) return { output: '', values: {}, failure: null }
  const result = await (await holderFor(placed.act)).perform(job(placed))
  await result.session?.close()
  return result
}

async function say(engine: EngineContext, { runId }: Hold, level: 'warning' | 'error', text: string): Promise<void> {
  await engine.db
    .insertInto('run_message')
    .values({ run_id: runId, at: engine.clock.now(), level, text: storable(text) })
    .execute()
}

/** Releases everything of a run, or everything there is, because a person says so. The run sees it and goes on without. */
export async function releaseNow(engine: EngineContext, run?: string): Promise<{ released: number; failed: number }> {
  const lines = (await new Ledger(engine).open()).filter(({ run_id: of }) => run === undefined || of === run)
  const due = lines.map(({ id, limit_ms: limitMs, run_id: runId, turn }) => ({ id, limitMs, runId, turn }))
  const released = await releaseAll(engine, due, 'person')
  const failed = (await new Ledger(engine).open()).filter(
    ({ id, state }) => state === 'stuck' && lines.some((line) => line.id === id),
  ).length
  return { released, failed }
}

/**
 * Releases many, side by side: of each run turn by turn, the last first. One that hangs holds up nothing but earlier turns of
 * its own run. Returns how many are released.
 */
export async function releaseAll(engine: EngineContext, lines: Overdue[], by: ReleasedBy): Promise<number> {
  const ofRuns = await Promise.all(
    [...grouped(lines, ({ runId }) => runId).values()].map(async (linesOfRun) => {
      let released = 0
      const turns = [...grouped(linesOfRun, ({ turn }) => turn)].sort(([a], [b]) => b - a)
      for (const [, turn] of turns) released += (await Promise.all(turn.map((line) => release(engine, line, by)))).filter(Boolean).length
      return released
    }),
  )
  return ofRuns.reduce((sum, released) => sum + released, 0)
}

/** A person has released it in another way, and says so. */
export async function saidReleased(engine: EngineContext, id: string): Promise<void> {
  const ledger = new Ledger(engine)
  const line = (await ledger.open()).find((found) => found.id === id)
  if (line?.state !== 'stuck' && line?.state !== 'releasing')
    throw new VesselError('hold_not_stuck', {
      what: 'It is released already, or its release has not failed.',
      touched: 'Nothing was changed.',
      next: 'Look at what is held now.',
      status: 409,
    })
  const hold = await ledger.claim({ id, limitMs: line.limit_ms }, 'said')
  if (!hold) return
  await ledger.released(hold, 'said', `A person said that it is released. The release had failed: ${line.trouble}`)
  const how = hold.release ? actInWords(hold.release.act) : ''
  await say(engine, hold, 'warning', `“${hold.name}” on ${hold.member} was said to be released; ${how} had failed.`)
}
