import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { Chains, commonStretches, momentOf, type Artifact, type ArtifactKind, type RecoveryPoint } from './chain'

const position = (n: number) => `0/${n.toString(16).toUpperCase()}`
const time = (n: number) => new Date(n * 1000)

function artifact(
  id: string,
  kind: ArtifactKind,
  from: number,
  to: number,
  parent: string | null = null,
  member = 'db',
  era = '1',
): Artifact {
  const base = { id, member, kind, parent, era, rows: 1, bytes: 1, stored: 1 }
  return { ...base, from: position(from), to: position(to), fromAt: time(from), at: time(to) }
}

/** One step of a history: how long it is, and what ends it. */
const step = fc.record({
  length: fc.integer({ min: 1, max: 5 }),
  mark: fc.constantFrom<ArtifactKind | 'none'>('none', 'none', 'full', 'synthetic', 'differential', 'incremental'),
  /** Whether the mark lies inside of the segment, as a full that is taken while the log goes on. */
  inside: fc.boolean(),
  logged: fc.boolean(),
  lost: fc.boolean(),
  markLost: fc.boolean(),
})

/** A chain with losses: fulls, what builds on them, and logs between positions. */
function historyOf(steps: { length: number; mark: string; inside: boolean; logged: boolean; lost: boolean; markLost: boolean }[]): {
  all: Artifact[]
  end: number
} {
  const all: Artifact[] = [artifact('f0', 'full', 1, 1)]
  let at = 1
  let [full, previous] = ['f0', 'f0']
  steps.forEach((step, i) => {
    const to = at + step.length
    if (step.logged && !step.lost) all.push(artifact(`l${i}`, 'log', at, to))
    const where = step.inside && step.length > 1 ? to - 1 : to
    const id = `m${i}`
    if (step.mark === 'full' || step.mark === 'synthetic') {
      if (!step.markLost) all.push(artifact(id, step.mark, where, where))
      full = previous = id
    } else if (step.mark === 'differential' || step.mark === 'incremental') {
      if (!step.markLost) all.push(artifact(id, step.mark as ArtifactKind, 0, where, step.mark === 'differential' ? full : previous))
      previous = id
    }
    at = to
  })
  return { all, end: at }
}

/** What is restorable, decided by trying everything. */
function reachable(all: Artifact[], at: number): boolean {
  const byId = new Map(all.map((a) => [a.id, a]))
  const whole = (a: Artifact): boolean => a.parent === null || (byId.has(a.parent) && whole(byId.get(a.parent)!))
  const n = (text: string) => Number.parseInt(text.slice(2), 16)
  return all
    .filter((a) => a.kind !== 'log' && whole(a) && n(a.to) <= at)
    .some((mark) => {
      const known = new Set([n(mark.to)])
      for (let p = n(mark.to) + 1; p <= at; p++)
        if (all.some((a) => a.kind === 'log' && n(a.from) < p && p <= n(a.to))) known.add(p)
        else return false
      return true
    })
}

describe('Chains', () => {
  it('enters a position if and only if an unbroken path leads there, whatever is lost', () => {
    fc.assert(
      fc.property(fc.array(step, { maxLength: 25 }), (steps) => {
        const { all, end } = historyOf(steps)
        const chains = new Chains(all)
        for (let at = 1; at <= end; at++) {
          const chain = chains.to('db', position(at))
          expect([at, chain !== undefined]).toEqual([at, reachable(all, at)])
          if (!chain) continue
          const marks = chain.artifacts.filter(({ kind }) => kind !== 'log')
          const logs = chain.artifacts.filter(({ kind }) => kind === 'log')
          expect(marks[0]!.parent).toBeNull()
          marks.slice(1).forEach((a, i) => expect(a.parent).toBe(marks[i]!.id))
          logs.slice(1).forEach((a, i) => expect(a.from).toBe(logs[i]!.to))
          const n = (text: string) => Number.parseInt(text.slice(2), 16)
          const tip = n(marks.at(-1)!.to)
          expect(tip).toBeLessThanOrEqual(at)
          if (tip < at) {
            expect(n(logs[0]!.from)).toBeLessThanOrEqual(tip)
            expect(n(logs.at(-1)!.to)).toBeGreaterThanOrEqual(at)
            expect(n(logs.at(-1)!.from)).toBeLessThan(at)
          } else expect(logs).toEqual([])
        }
      }),
      { numRuns: 300 },
    )
  })

  it('says of every moment the same as the stretches that the lifeline draws', () => {
    fc.assert(
      fc.property(fc.array(step, { maxLength: 25 }), (steps) => {
        const { all, end } = historyOf(steps)
        const chains = new Chains(all)
        const stretches = chains.coverage('db')
        for (let at = 0; at <= end + 2; at++) {
          const inside = stretches.some(({ from, to }) => from <= time(at) && time(at) <= to)
          const chain = chains.at('db', time(at))
          expect([at, chain?.exact ?? false]).toEqual([at, inside])
          if (chain && !chain.exact) expect(chain.at).toEqual(stretches.map(({ to }) => to).findLast((to) => to < time(at)))
          else if (!chain) expect(stretches.some(({ to }) => to < time(at))).toBe(false)
        }
      }),
    )
  })

  it('needs nothing from before a synthetic full', () => {
    const all = [
      artifact('f', 'full', 1, 1),
      artifact('l1', 'log', 1, 10),
      artifact('s', 'synthetic', 10, 10),
      artifact('l2', 'log', 10, 20),
    ]
    const rest = new Chains(all.slice(2))
    expect(rest.to('db', position(15))!.artifacts.map((a) => a.id)).toEqual(['s', 'l2'])
    expect(rest.coverage('db')).toEqual([{ from: time(10), to: time(20) }])
  })

  it('keeps two histories of a source apart that share positions', () => {
    const all = [
      artifact('f1', 'full', 1, 1),
      artifact('l1', 'log', 1, 100),
      artifact('d1', 'differential', 1, 90, 'f1'),
      { ...artifact('f2', 'full', 80, 80, null, 'db', '2'), fromAt: time(200), at: time(200) },
      { ...artifact('l2', 'log', 80, 120, null, 'db', '2'), fromAt: time(200), at: time(240) },
    ]
    const chains = new Chains(all)
    expect(chains.at('db', time(230))!.artifacts.map((a) => a.id)).toEqual(['f2', 'l2'])
    expect(chains.to('db', position(95))!.artifacts.map((a) => a.id)).toEqual(['f2', 'l2'])
    expect(chains.to('db', position(95), time(96))!.artifacts.map((a) => a.id)).toEqual(['f1', 'd1', 'l1'])
    expect(chains.to('db', position(110), time(96))!.artifacts.map((a) => a.id)).toEqual(['f2', 'l2'])
    expect(chains.at('db', time(95))!.artifacts.map((a) => a.id)).toEqual(['f1', 'd1', 'l1'])
    expect(chains.at('db', time(150))!).toMatchObject({ exact: false, at: time(100) })
  })

  it('leaves out what is damaged, and goes on as long as nothing changes', () => {
    const all = [artifact('f', 'full', 1, 1), artifact('l1', 'log', 1, 10), artifact('l2', 'log', 10, 20)]
    const caughtUp = [{ member: 'db', era: '1', from: position(20), to: position(25), fromAt: time(20), at: time(60) }]
    expect(new Chains(all, caughtUp).coverage('db')).toEqual([{ from: time(1), to: time(60) }])
    expect(new Chains(all, caughtUp).at('db', time(50))!.artifacts.map((a) => a.id)).toEqual(['f', 'l1', 'l2'])
    expect(new Chains(all, caughtUp).to('db', position(24))!.artifacts.map((a) => a.id)).toEqual(['f', 'l1', 'l2'])
    expect(new Chains(all, caughtUp).to('db', position(26))).toBeUndefined()
    const first = [{ member: 'db', era: '1', from: position(1), to: position(1), fromAt: time(1), at: time(9) }]
    expect(new Chains([all[0]!], first).coverage('db')).toEqual([{ from: time(1), to: time(9) }])
    expect(new Chains([all[0]!], first).at('db', time(5))).toMatchObject({ exact: true, artifacts: [all[0]] })
    const broken = new Chains([all[0]!, { ...all[1]!, damaged: true }, all[2]!], caughtUp)
    expect(broken.coverage('db')).toEqual([{ from: time(1), to: time(1) }])
    expect(broken.to('db', position(5))).toBeUndefined()
  })

  it('does not take a quiet stretch of another history for one of its own', () => {
    const all = [artifact('f', 'full', 1, 1), artifact('l', 'log', 1, 20)]
    // The log of another server was begun, and nothing of it is stored yet.
    const caughtUp = [{ member: 'db', era: '2', from: position(20), to: position(25), fromAt: time(30), at: time(60) }]
    const chains = new Chains(all, caughtUp)
    expect(chains.coverage('db')).toEqual([{ from: time(1), to: time(20) }])
    expect(chains.to('db', position(24))).toBeUndefined()
    // That something older has the position does not matter to who asks for one history.
    const both = new Chains([...all, artifact('g', 'full', 5, 5, null, 'db', '2')], caughtUp)
    expect(both.to('db', position(10))!.artifacts.map(({ id }) => id)).toEqual(['f', 'l'])
    expect(both.inEra('db', '2', position(10))).toBeUndefined()
    expect(both.inEra('db', '1', position(10))!.artifacts.map(({ id }) => id)).toEqual(['f', 'l'])
  })
})

describe('momentOf', () => {
  it('names members without any state, and the point that the chains make', () => {
    const all = [artifact('a', 'full', 10, 10), artifact('b', 'full', 10, 10, null, 'other'), artifact('c', 'full', 20, 20)]
    const point: RecoveryPoint = { id: 'p', at: time(10), name: null, complete: true, artifacts: ['a', 'b'] }
    const chains = new Chains(all)
    expect(momentOf(['db', 'other'], chains, [point], time(15)).point).toBe(point)
    const later = momentOf(['db', 'other', 'third'], chains, [point], time(25))
    expect(later.point).toBeUndefined()
    expect(later.missing).toEqual(['third'])
  })
})

describe('commonStretches', () => {
  it('is where all can be entered', () => {
    const a = [
      { from: time(1), to: time(10) },
      { from: time(20), to: time(30) },
    ]
    const b = [{ from: time(5), to: time(25) }]
    expect(commonStretches([a, b])).toEqual([
      { from: time(5), to: time(10) },
      { from: time(20), to: time(25) },
    ])
    expect(commonStretches([a, []])).toEqual([])
    expect(commonStretches([])).toEqual([])
  })
})
