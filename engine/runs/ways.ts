import { placeInWords, namesOf } from '../../core/things/thing'
import { takesFrom } from '../../core/selection/rules'
import { lanesOf } from '../catalog/lifeline'
import { isFollowed, type FollowerState } from '../catalog/log-types'
import type { Vessel } from '../catalog/vessels'
import type { EngineContext } from '../context'
import { parentIn, type Derived } from './derive'

export type WayKind = 'full' | Derived | 'audit'

/** One way of backing up a vessel now. */
export interface WayOfBackup {
  way: WayKind
  /** Why it can't be gone now; null when it can. */
  obstacle: string | null
  /** What a person should know of it before. */
  notes: string[]
}

interface Known {
  vessel: Vessel
  /** Databases that a chain has been begun of. */
  databases: string[]
  sources: Map<string, { isCluster: boolean; trouble: string | null }>
  followers: Map<string, { state: FollowerState; era: string; why: string | null }>
  lanes: Awaited<ReturnType<typeof lanesOf>>
}

/** Whether each way of backup could begin now, as far as that is known without touching a source. */
export async function waysOfBackup(engine: EngineContext, vessel: Vessel): Promise<WayOfBackup[]> {
  const [lanes, sources, followers] = await Promise.all([
    lanesOf(engine, vessel.id),
    engine.db.selectFrom('source').select(['name', 'kind', 'trouble']).execute(),
    engine.db.selectFrom('follower').select(['member', 'state', 'era', 'trouble']).where('vessel_id', '=', vessel.id).execute(),
  ])
  const protecting = sources.filter(({ name }) => takesFrom(vessel.definition.rules, name))
  const known: Known = {
    vessel,
    lanes,
    sources: new Map(
      protecting.map(({ name, kind, trouble }) => [name, { isCluster: kind === 'kubernetes', trouble: trouble?.what ?? null }]),
    ),
    followers: new Map(followers.map(({ member, state, era, trouble }) => [member, { state, era, why: trouble?.what ?? null }])),
    databases: lanes.members.filter((member) => protecting.some(({ name, kind }) => name === namesOf(member)[0] && kind !== 'kubernetes')),
  }
  return [
    { way: 'full', obstacle: noSource(known), notes: doubts(known) },
    differential(known),
    { way: 'incremental', obstacle: noSource(known) ?? fromLog(known, 'incremental'), notes: [...doubts(known), ...clusterNotes(known)] },
    { way: 'synthetic', obstacle: fromLog(known, 'synthetic'), notes: clusterNotes(known) },
    audit(known),
  ]
}

const noSource = ({ sources, vessel }: Known): string | null =>
  sources.size === 0 ? `The rules of ${vessel.name} take nothing of any source.` : null

/** A source that was away may be back by now, so it stands in nobody's way. */
const doubts = ({ sources }: Known): string[] =>
  [...sources].flatMap(([name, { trouble }]) => (trouble === null ? [] : [`${name} did not answer when it was looked at last: ${trouble}`]))

const noFull = ({ vessel }: Known) => `${vessel.name} has no full yet that it could build upon.`

/** Why something can't be computed from the logs of all databases. */
function fromLog(known: Known, way: Derived): string | null {
  if (known.lanes.members.length === 0) return noFull(known)
  for (const member of known.databases) {
    const follower = known.followers.get(member)
    const place = placeInWords(member)
    if (!follower || !isFollowed(follower.state)) return `The log of ${place} is not followed${follower?.why ? `: ${follower.why}` : '.'}`
    if (!parentIn(known.lanes.artifacts, member, follower.era, way)) return `${place} has no full yet that its log leads on from.`
  }
  return null
}

/** From the log where there is one; of the others key ranges are compared with the source. */
function differential(known: Known): WayOfBackup {
  const { lanes, databases, followers } = known
  const logless = databases.filter((member) => !isFollowed(followers.get(member)?.state))
  const unfounded = logless.find(
    (member) =>
      !lanes.artifacts.some(
        (artifact) => artifact.member === member && !artifact.damaged && (artifact.kind === 'full' || artifact.kind === 'synthetic'),
      ),
  )
  const followed = { ...known, databases: databases.filter((member) => !logless.includes(member)) }
  const obstacle = unfounded ? `${placeInWords(unfounded)} has no full yet that it could build upon.` : fromLog(followed, 'differential')
  const notes = logless.map((member) => `${placeInWords(member)} gives no log: ranges of its keys are compared at the source.`)
  return { way: 'differential', obstacle: noSource(known) ?? obstacle, notes: [...doubts(known), ...notes, ...clusterNotes(known)] }
}

const clusterNotes = ({ sources }: Known): string[] =>
  [...sources].flatMap(([name, { isCluster }]) =>
    isCluster ? [`What it takes of ${name} is read again; what has not changed is stored already.`] : [],
  )

function audit(known: Known): WayOfBackup {
  const followed = known.databases.filter((member) => known.followers.get(member)?.state === 'following')
  const obstacle =
    followed.length === 0
      ? `No log of ${known.vessel.name} is followed now, so there is none to audit.`
      : fromLog({ ...known, databases: followed }, 'incremental')
  return { way: 'audit', obstacle, notes: doubts(known) }
}
