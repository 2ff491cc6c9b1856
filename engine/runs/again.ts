import { wishOf } from '../../core/restore/wish'
import type { EngineContext } from '../context'
import { openPart, takenBackIn, type RestoreParams, type RestorePart } from './restore'
import { planAll, planDigest, requireReason, type PlannedWish } from './restore-plan'

/** What a restore of one or several points would do now, taken together. */
export async function planParts(engine: EngineContext, parts: RestorePart[], also: string[] = []): Promise<PlannedWish> {
  const all: PlannedWish = { databases: [], namespaces: [] }
  for (const part of parts) {
    const planned = await planAll(engine, await openPart(engine, part), wishOf(part.wish), also)
    all.databases.push(...planned.databases)
    all.namespaces.push(...planned.namespaces)
  }
  return all
}

/**
 * The parameters of a restore that is to be done once more: planned anew against what stands now, which the run will
 * hold itself to. What it would overwrite asks for a reason of its own.
 *
 * @throws VesselError `reason_missing`
 */
export async function planAgain(
  engine: EngineContext,
  params: Record<string, unknown>,
  reason: string | null,
): Promise<Record<string, unknown>> {
  const before = params as unknown as RestoreParams
  const planned = await planParts(engine, [before, ...(before.more ?? [])], takenBackIn(before))
  requireReason(planned, reason)
  return { ...before, reason, agreed: planDigest(planned) }
}
