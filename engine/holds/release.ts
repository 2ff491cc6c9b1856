import { errorRecord, VesselError } from '../../core/errors'
import { actInWords } from '../../core/quiesce/sequence'
import { namesOf } from '../../core/things/thing'
import { openSource } from '../catalog/sources'
import type { ReleasedBy } from '../catalog/types'
import type { EngineContext } from '../context'
import type { ActJob, ActResult, Holder, HeldSession } from '../sources/source'
import type { Act } from '../../core/quiesce/sequence'
import { Ledger, releaseLimit, type Hold } from './ledger'
import { outsideHolder } from './outside'

/** Who does an act on a member: its source, or we ourselves. */
export async function holderFor(engine: EngineContext, member: string, act: Act): Promise<Holder> {
  if (act.kind === 'http' || act.kind === 'program') return outsideHolder(engine.hooks)
  return (await openSource(engine, namesOf(member)[0]!)).source.holder
}

/** The name that a hold's session bears at its source. */
export const markOf = (id: string) => `unbroken-vessel hold ${id}`

/**
 * Releases what one line of the ledger holds, unless somebody else does. Whatever happens is in the ledger.
 * @returns whether it is released now by this call; false also when it failed and will be tried again
 */
export async function release(
  engine: EngineContext,
  line: Pick<Hold, 'id' | 'limitMs'>,
  by: ReleasedBy,
  session?: HeldSession,
): Promise<boolean> {
  const ledger = new Ledger(engine)
  const hold = await ledger.claim(line)
  if (!hold) return false
  const result = await performRelease(engine, hold, session).catch((error: unknown): ActResult => ({
    output: '',
    values: {},
    failure: errorRecord(error).what,
  }))
  if (result.failure === null || result.moot) {
    const note = result.failure === null ? '' : `${result.failure} It holds nothing any more.`
    await ledger.released(hold, by, [result.output, note].filter(Boolean).join('\n'))
    if (by === 'watchdog') await say(engine, hold, 'warning', `A watchdog released “${hold.name}” on ${hold.member}.`)
    return true
  }
  await ledger.stuck(hold, result.failure, result.output)
  const text = `The release of “${hold.name}” on ${hold.member} failed: ${result.failure} It is tried again and again.`
  if (hold.attempts === 0) await say(engine, hold, 'error', text)
  console.error(text)
  return false
}

async function performRelease(engine: EngineContext, hold: Hold, session?: HeldSession): Promise<ActResult> {
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
    const own = placed?.act.kind === 'sql' && session?.isOpen ? await session.perform(job(placed)) : null
    await session?.close()
    if (own?.failure === null) return own
    // Whoever held the session is gone, or it did not answer: the server ends it, and all that it holds.
    await (await holderFor(engine, member, act.act)).endSession?.(place, markOf(id))
  }
  if (!placed) return { output: '', values: {}, failure: null }
  const result = await (await holderFor(engine, member, placed.act)).perform(job(placed))
  await result.session?.close()
  return result
}

async function say(engine: EngineContext, { runId }: Hold, level: 'warning' | 'error', text: string): Promise<void> {
  await engine.db.insertInto('run_message').values({ run_id: runId, at: engine.clock.now(), level, text }).execute()
}

/** Releases everything of a run, or everything there is, because a person says so. The run sees it and goes on without. */
export async function releaseNow(engine: EngineContext, run?: string): Promise<{ released: number; failed: number }> {
  const lines = (await new Ledger(engine).open()).filter(({ run_id: own }) => run === undefined || own === run)
  let released = 0
  for (const { id, limit_ms: limitMs } of lines.reverse()) if (await release(engine, { id, limitMs }, 'person')) released++
  const failed = (await new Ledger(engine).open()).filter(({ id, state }) => state === 'stuck' && lines.some((one) => one.id === id)).length
  return { released, failed }
}

/** A person has released it in another way, and says so. */
export async function saidReleased(engine: EngineContext, id: string): Promise<void> {
  const ledger = new Ledger(engine)
  const line = (await ledger.open()).find((one) => one.id === id)
  if (line?.state !== 'stuck')
    throw new VesselError('hold_not_stuck', {
      what: 'It is released already, or its release has not failed.',
      touched: 'Nothing was changed.',
      next: 'Look at what is held now.',
      status: 409,
    })
  const hold = await ledger.claim({ id, limitMs: line.limit_ms })
  if (!hold) return
  await ledger.released(hold, 'said', `A person said that it is released. The release had failed: ${line.trouble}`)
  const how = hold.release ? actInWords(hold.release.act) : ''
  await say(engine, hold, 'warning', `“${hold.name}” on ${hold.member} was said to be released; ${how} had failed.`)
}
