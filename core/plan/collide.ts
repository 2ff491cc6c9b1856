/** A run that a plan makes: from when on, and how long it is expected to take. */
export interface ExpectedRun {
  /** Milliseconds since 1970. */
  at: number
  forMs: number
  vessel: string
  /** Where it reads. */
  sources: string[]
}

/** Whom a run meets at a source while it goes on. */
export interface Meeting {
  source: string
  vessels: string[]
}

/** By run, in the order in which they were given: runs of other vessels that go on at one of its sources at the same time. */
export function collisions(runs: ExpectedRun[]): Meeting[][] {
  const met = runs.map((): Map<string, Set<string>> => new Map())
  const order = runs.map((_, i) => i).sort((a, b) => runs[a]!.at - runs[b]!.at)
  let open: number[] = []
  for (const i of order) {
    const run = runs[i]!
    open = open.filter((other) => runs[other]!.at + runs[other]!.forMs > run.at)
    for (const other of open) meet(i, other)
    open.push(i)
  }
  function meet(a: number, b: number): void {
    const [one, two] = [runs[a]!, runs[b]!]
    if (one.vessel === two.vessel) return
    for (const source of one.sources.filter((name) => two.sources.includes(name))) {
      for (const [at, whom] of [[a, two.vessel] as const, [b, one.vessel] as const])
        met[at]!.set(source, (met[at]!.get(source) ?? new Set()).add(whom))
    }
  }
  return met.map((bySource) => [...bySource].map(([source, vessels]) => ({ source, vessels: [...vessels].sort() })))
}

/** For how long, in milliseconds, runs of a vessel meet those of others at one of its sources, and whom where. */
export function meetings(own: ExpectedRun[], others: ExpectedRun[]): { forMs: number; meets: Meeting[] } {
  const met = new Map<string, Set<string>>()
  const overlaps: [from: number, to: number][] = []
  for (const run of own)
    for (const other of others) {
      const [from, to] = [Math.max(run.at, other.at), Math.min(run.at + run.forMs, other.at + other.forMs)]
      const shared = run.vessel === other.vessel || from >= to ? [] : run.sources.filter((name) => other.sources.includes(name))
      for (const source of shared) met.set(source, (met.get(source) ?? new Set()).add(other.vessel))
      if (shared.length > 0) overlaps.push([from, to])
    }
  let [forMs, reached] = [0, -Infinity]
  for (const [from, to] of overlaps.sort(([a], [b]) => a - b)) {
    forMs += Math.max(0, to - Math.max(from, reached))
    reached = Math.max(reached, to)
  }
  return { forMs, meets: [...met].map(([source, vessels]) => ({ source, vessels: [...vessels].sort() })) }
}
