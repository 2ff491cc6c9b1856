import { positionOf } from '../../core/chain/position'
import type { LogManifest } from '../../core/changes/manifest'
import type { DatabaseManifest, SequenceState } from '../../core/content/manifest'
import type { Vessel } from '../catalog/vessels'
import type { EngineContext } from '../context'
import { isOfContent } from '../store/damage'
import { readJson } from '../store/json'
import type { Store } from '../store/store'
import type { PostgresAccess } from '../sources/postgres/connect'
import { LogBroken } from './breaks'
import type { FollowerRow } from './examine'
import { quietSince } from './quiet'
import { segmentsOf } from './segments'
import { StructureWatch } from './structure'

/** What a follower has to know before it goes on. */
export interface KnownStructure {
  watch: StructureWatch
  sequences: SequenceState[]
  /** Whether something changed that was not read before the last follower ended. */
  unread: boolean
}

const unreadable = (member: string, store: string) =>
  new LogBroken({
    kind: 'segment',
    reason: `The structure from which the log of ${member} is followed can’t be read any more in ${store}.`,
    next: 'A new full begins a new log by itself.',
  })

type Segment = Pick<LogManifest, 'steps' | 'sequences' | 'changes' | 'looked'>

/**
 * The structure of a member as it was last read, moved on by what the source told since.
 *
 * @param mark writes a mark into the log, which tells where a structure that is read belongs
 * @throws {LogBroken} when what was read last can't be read in the store
 */
export async function knownStructure(
  { engine, vessel, row, access, store }: { engine: EngineContext; vessel: Vessel; row: FollowerRow; access: PostgresAccess; store: Store },
  stop: AbortSignal,
  mark: (mark: string) => Promise<void>,
): Promise<KnownStructure> {
  const { chunks, exact, digest, from, told } = row.structure_names!
  const known = await readJson<DatabaseManifest>(store, chunks).catch((error: unknown) => {
    throw isOfContent(error) ? unreadable(row.member, store.name) : error
  })
  const since = { era: row.era, member: row.member, to: exact }
  const logs: Segment[] = []
  for (const { manifest } of await segmentsOf(engine, vessel.id, since, { position: row.position! })) {
    const { steps, sequences, changes, looked } = await readJson<LogManifest>(store, manifest)
    logs.push({ steps, sequences, changes, looked })
  }
  const looks = row.structure === 'compare' ? row.caught_up_position : null
  const quiet = quietSince(told ? exact : from, [...logs.map(({ looked }) => looked), looks])
  const member = { ...row, rules: vessel.definition.rules, trigger: row.structure === 'trigger' }
  const state = { known, digest, quiet, tables: known.tables, followed: row.tables }
  const watch = new StructureWatch(access, member, state, stop, exact, mark)
  let unread = false
  for (const { steps, changes } of logs)
    for (const step of (steps ?? []).filter(({ end }) => positionOf(end)! > positionOf(exact)!)) {
      watch.replay(step, changes.find(({ end }) => end === step.end)?.xid ?? null)
      unread = true
    }
  watch.model.followed = row.tables
  return { watch, sequences: logs.at(-1)?.sequences ?? known.sequences, unread }
}
