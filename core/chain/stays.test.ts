import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { Chains, type Artifact, type ArtifactKind, type CaughtUp } from './chain'
import { segmentStays, staysOf } from './stays'

const position = (n: number) => `0/${n.toString(16).toUpperCase()}`
const time = (n: number) => new Date(n * 1000)
const artifact = (id: string, kind: ArtifactKind, from: number, to: number, rest: Partial<Artifact> = {}): Artifact => ({
  ...{ id, member: 'a', kind, parent: null, era: '1', rows: 1, bytes: 1, stored: 1 },
  ...{ from: position(from), to: position(to), fromAt: time(from), at: time(to) },
  ...rest,
})

interface Point {
  id: string
  at: Date
  artifacts: string[]
}
interface History {
  marks: Artifact[]
  logs: Artifact[]
  points: Point[]
  caughtUp: CaughtUp[]
  end: number
}

const memberStep = fc.record({
  logged: fc.boolean(),
  lost: fc.constantFrom(false, false, false, true),
  mark: fc.constantFrom<ArtifactKind>('full', 'synthetic', 'differential', 'incremental', 'incremental'),
  damaged: fc.constantFrom(false, false, false, false, true),
})
const step = fc.record({
  length: fc.integer({ min: 1, max: 5 }),
  /** A point ends it, or only more log. */
  point: fc.constantFrom(true, true, false),
  /** The server is put back, and goes on with another history. */
  newEra: fc.constantFrom(false, false, false, false, false, true),
  a: memberStep,
  b: memberStep,
})
const history = fc.record({
  steps: fc.array(step, { minLength: 1, maxLength: 20 }),
  members: fc.constantFrom<string[]>(['a'], ['a', 'b']),
  quiet: fc.integer({ min: 0, max: 3 }),
})

/** Points of one or two members, with logs between them, holes, eras and damage. */
function historyOf({ steps, members, quiet }: typeof history extends fc.Arbitrary<infer T> ? T : never): History {
  const made: History = { marks: [], logs: [], points: [], caughtUp: [], end: 1 }
  const last = new Map<string, { full: string; previous: string; era: string }>()
  const point = (id: string, at: number, marks: Artifact[]) => {
    made.marks.push(...marks)
    made.points.push({ id, at: time(at), artifacts: marks.map(({ id }) => id) })
  }
  let era = 1
  point(
    'p0',
    1,
    members.map((member) => artifact(`f-${member}`, 'full', 1, 1, { member })),
  )
  for (const member of members) last.set(member, { full: `f-${member}`, previous: `f-${member}`, era: '1' })
  const loggedTo = new Map(members.map((member) => [member, 1]))
  let at = 1
  steps.forEach((step, i) => {
    const to = at + step.length
    if (step.newEra) era++
    const name = `${era}`
    const marks: Artifact[] = []
    for (const member of members) {
      const of = step[member as 'a' | 'b']
      if (of.logged && !of.lost) {
        made.logs.push(artifact(`l${i}-${member}`, 'log', at, to, { member, era: name }))
        loggedTo.set(member, to)
      }
      if (!step.point) continue
      const known = last.get(member)!
      // What begins in another history begins with a full.
      const kind = known.era === name ? of.mark : 'full'
      const isFull = kind === 'full' || kind === 'synthetic'
      const id = `m${i}-${member}`
      const parent = isFull ? null : kind === 'differential' ? known.full : known.previous
      marks.push(artifact(id, kind, isFull ? to : at, to, { member, era: name, parent, ...(of.damaged ? { damaged: true } : {}) }))
      last.set(member, { full: isFull ? id : known.full, previous: id, era: name })
    }
    if (step.point) point(`p${i + 1}`, to, marks)
    at = to
  })
  for (const member of members) {
    const from = loggedTo.get(member)!
    const rest = { fromAt: time(from), at: time(at + quiet) }
    if (quiet > 0 && from === at) made.caughtUp.push({ member, era: `${era}`, from: position(from), to: position(at + quiet), ...rest })
  }
  return { ...made, end: at + quiet }
}

const idsOf = (chain: { artifacts: Artifact[] } | undefined) => chain?.artifacts.map(({ id }) => id)

/** What is needed, found by entering every moment and every point there is; and nothing but that. */
function neededByTrying({ marks, logs, points, caughtUp, end }: History, kept: Set<string>, from: number): Set<string> {
  const chains = new Chains([...marks, ...logs], caughtUp)
  const needed = new Set<string>()
  const members = [...new Set(marks.map(({ member }) => member))]
  const isLogged = [...logs, ...caughtUp].some(({ at }) => at >= time(from))
  const byId = new Map(marks.map((mark) => [mark.id, mark]))
  const addWithParents = (id: string) => {
    for (let at: Artifact | undefined = byId.get(id); at; at = at.parent === null ? undefined : byId.get(at.parent)) needed.add(at.id)
  }
  for (const point of points)
    if (kept.has(point.id) || (isLogged && point.at >= time(from))) for (const id of point.artifacts) addWithParents(id)
  for (const member of members) {
    for (let at = from; isLogged && at <= end; at += 0.5) {
      const chain = chains.at(member, time(at))
      if (chain?.exact) for (const { id } of chain.artifacts) needed.add(id)
    }
    const fulls = marks.filter((mark) => mark.member === member && (mark.kind === 'full' || mark.kind === 'synthetic') && !mark.damaged)
    const newest = fulls.reduce<Artifact | undefined>((a, b) => (a && a.at >= b.at ? a : b), undefined)
    if (newest) needed.add(newest.id)
    for (const log of logs.filter((log) => log.member === member)) {
      const isSinceFull = newest && log.at >= newest.at
      const isOfFull = newest && log.era === newest.era && BigInt(parseInt(log.to.slice(2), 16)) > BigInt(parseInt(newest.to.slice(2), 16))
      if (log.at >= time(from) || isSinceFull || isOfFull) needed.add(log.id)
    }
  }
  // A point goes as a whole.
  for (let grew = true; grew;) {
    const before = needed.size
    for (const { artifacts } of points) if (artifacts.some((id) => needed.has(id))) artifacts.forEach(addWithParents)
    grew = needed.size > before
  }
  return needed
}

describe('what must stay', () => {
  const asked = fc.tuple(history, fc.array(fc.boolean(), { minLength: 21, maxLength: 21 }), fc.double({ min: 0, max: 1, noNaN: true }))

  it('is what entering everything needs, and nothing else', () => {
    fc.assert(
      fc.property(asked, ([steps, keeps, share]) => {
        const all = historyOf(steps)
        const kept = new Set(all.points.filter((_, i) => keeps[i]).map(({ id }) => id))
        const from = Math.round(share * (all.end + 2))
        const stays = staysOf(all, new Chains([...all.marks, ...all.logs], all.caughtUp), kept, time(from))
        const staying = all.points.filter(({ id }) => stays.points.has(id)).flatMap(({ artifacts }) => artifacts)
        const logs = all.logs
          .filter((log) =>
            segmentStays(
              stays.logs.find(({ member }) => member === log.member)!,
              log,
            ),
          )
          .map(({ id }) => id)
        expect(new Set([...staying, ...logs])).toEqual(neededByTrying(all, kept, from))
      }),
      { numRuns: 600 },
    )
  })

  it('leaves every kept moment exactly as it was, and the newest of all', () => {
    fc.assert(
      fc.property(asked, ([steps, keeps, share]) => {
        const all = historyOf(steps)
        const kept = new Set(all.points.filter((_, i) => keeps[i]).map(({ id }) => id))
        const from = Math.round(share * (all.end + 2))
        const before = new Chains([...all.marks, ...all.logs], all.caughtUp)
        const stays = staysOf(all, before, new Set([...kept, all.points.at(-1)!.id]), time(from))
        const points = all.points.filter(({ id }) => stays.points.has(id))
        const held = new Set(points.flatMap(({ artifacts }) => artifacts))
        const logs = all.logs.filter((log) =>
          segmentStays(
            stays.logs.find(({ member }) => member === log.member)!,
            log,
          ),
        )
        const isLogged = [...all.logs, ...all.caughtUp].some(({ at }) => at >= time(from))
        const after = new Chains([...all.marks.filter(({ id }) => held.has(id)), ...logs], all.caughtUp)
        for (const member of new Set(all.marks.map((mark) => mark.member))) {
          for (let at = from; isLogged && at <= all.end; at += 0.5) {
            const chain = before.at(member, time(at))
            if (chain?.exact) expect(idsOf(after.at(member, time(at)))).toEqual(idsOf(chain))
          }
          for (const { artifacts } of points)
            for (const mark of all.marks.filter(({ id, member: of }) => of === member && artifacts.includes(id))) {
              const there = before.inEra(member, mark.era, mark.to)
              if (there?.artifacts.at(-1)?.id === mark.id) expect(idsOf(after.inEra(member, mark.era, mark.to))).toEqual(idsOf(there))
            }
        }
      }),
      { numRuns: 400 },
    )
  })

  it('is a whole cycle until nothing needs any of it', () => {
    const marks = [
      artifact('f1', 'full', 1, 1),
      artifact('d1', 'differential', 1, 2, { parent: 'f1' }),
      artifact('d2', 'differential', 1, 3, { parent: 'f1' }),
      artifact('f2', 'full', 4, 4),
    ]
    const points = marks.map(({ id, at }) => ({ id: `p-${id}`, at, artifacts: [id] }))
    const staying = (kept: string[]) => [...staysOf({ marks, points }, new Chains(marks), new Set(kept), time(9)).points]
    expect(staying(['p-d2', 'p-f2'])).toEqual([
      ['p-d2', 'kept'],
      ['p-f2', 'kept'],
      ['p-f1', 'needed'],
    ])
    expect(staying(['p-f2'])).toEqual([['p-f2', 'kept']])
    // The newest full stays to lead on from, unless nothing is to lead on any more.
    const log = artifact('l', 'log', 4, 6)
    const of = (moment: Date | null) => [
      ...staysOf({ marks, points }, new Chains([...marks, log]), new Set(['p-d1']), moment).points.keys(),
    ]
    expect(of(time(9))).toEqual(['p-d1', 'p-f2', 'p-f1'])
    expect(of(null)).toEqual(['p-d1', 'p-f1'])
  })
})
