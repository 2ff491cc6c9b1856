/** What one member yielded once. `from` and `to` are positions of its source; an instant lies at `at`. */
export interface Artifact {
  id: string
  member: string
  kind: 'full' | 'differential' | 'incremental' | 'synthetic'
  /** The artifact it builds upon; fulls have none. */
  parent: string | null
  at: Date
  to: string
  rows: number
  bytes: number
  /** Bytes that it added to the store. */
  stored: number
}

export interface RecoveryPoint {
  id: string
  at: Date
  name: string | null
  pinned: boolean
  /** Whether everything was captured that was to be; a partial point counts only where nothing else is. */
  complete: boolean
  artifacts: string[]
}

/** The artifacts to read for one member, base first. */
export interface Chain {
  member: string
  artifacts: Artifact[]
  /** The instant at which the member then stands. */
  at: Date
}

/**
 * The chain that leads to the newest state of `member` at or before `instant`, or undefined if no unbroken
 * chain does. This one function decides what is restorable, for the lifeline, for promises and for restores.
 */
export function chainAt(artifacts: Iterable<Artifact>, member: string, instant: Date): Chain | undefined {
  const own = new Map<string, Artifact>()
  for (const artifact of artifacts) if (artifact.member === member) own.set(artifact.id, artifact)
  const candidates = [...own.values()].filter((artifact) => artifact.at <= instant).sort((a, b) => b.at.getTime() - a.at.getTime())
  for (const candidate of candidates) {
    const path = pathTo(candidate, own)
    if (path) return { member, artifacts: path, at: candidate.at }
  }
  return undefined
}

function pathTo(artifact: Artifact, own: Map<string, Artifact>): Artifact[] | undefined {
  const path: Artifact[] = []
  const seen = new Set<string>()
  for (let at: Artifact | undefined = artifact; at; at = own.get(at.parent!)) {
    if (seen.has(at.id)) return undefined
    seen.add(at.id)
    path.unshift(at)
    if (at.parent === null) return path
  }
  return undefined
}

export interface Instant {
  chains: Chain[]
  /** Members that can't be brought back to this instant at all. */
  missing: string[]
  /** The complete point that all chains come from, if they come from one. */
  point: RecoveryPoint | undefined
}

/** What can be brought back at an instant: a chain for each member, and the point they make if they make one. */
export function instantOf(members: string[], artifacts: Artifact[], points: RecoveryPoint[], instant: Date): Instant {
  const chains = members.flatMap((member) => chainAt(artifacts, member, instant) ?? [])
  const found = new Set(chains.map((chain) => chain.member))
  const tips = chains.map((chain) => chain.artifacts.at(-1)!.id)
  const point = points.find((p) => tips.length > 0 && tips.every((tip) => p.artifacts.includes(tip)))
  return { chains, missing: members.filter((member) => !found.has(member)), point }
}
