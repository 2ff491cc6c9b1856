import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { chainAt, instantOf, type Artifact, type RecoveryPoint } from './chain'

const artifact = (id: string, at: number, parent: string | null = null, member = 'db'): Artifact => ({
  id,
  member,
  parent,
  kind: parent ? 'incremental' : 'full',
  at: new Date(at),
  to: String(at),
  rows: 1,
  bytes: 1,
  stored: 1,
})

describe('chainAt', () => {
  it('walks from the newest state at or before the instant to its full', () => {
    const all = [artifact('f', 10), artifact('i1', 20, 'f'), artifact('i2', 30, 'i1')]
    expect(chainAt(all, 'db', new Date(30))!.artifacts.map((a) => a.id)).toEqual(['f', 'i1', 'i2'])
    expect(chainAt(all, 'db', new Date(29))!.artifacts.map((a) => a.id)).toEqual(['f', 'i1'])
    expect(chainAt(all, 'db', new Date(9))).toBeUndefined()
  })

  it('falls back to an older state when a link is lost, and never returns a chain with a hole', () => {
    fc.assert(
      fc.property(fc.array(fc.tuple(fc.boolean(), fc.boolean()), { minLength: 1, maxLength: 30 }), fc.nat(40), (steps, instant) => {
        const all: Artifact[] = []
        steps.forEach(([full], i) => all.push(artifact(`a${i}`, i, full || i === 0 ? null : `a${i - 1}`)))
        const kept = all.filter((_, i) => !steps[i]![1])
        const chain = chainAt(kept, 'db', new Date(instant))
        const ids = new Set(kept.map((a) => a.id))
        const whole = (a: Artifact): boolean => a.parent === null || (ids.has(a.parent) && whole(all.find((x) => x.id === a.parent)!))
        const best = kept.filter((a) => a.at.getTime() <= instant && whole(a)).at(-1)
        expect(chain?.artifacts.at(-1)?.id).toBe(best?.id)
        if (chain) {
          expect(chain.artifacts[0]!.parent).toBeNull()
          chain.artifacts.slice(1).forEach((a, i) => expect(a.parent).toBe(chain.artifacts[i]!.id))
        }
      }),
    )
  })
})

describe('instantOf', () => {
  it('names members without any state, and the point that the chains make', () => {
    const all = [artifact('a', 10), artifact('b', 10, null, 'other'), artifact('c', 20)]
    const point: RecoveryPoint = { id: 'p', at: new Date(10), name: null, pinned: false, complete: true, artifacts: ['a', 'b'] }
    expect(instantOf(['db', 'other'], all, [point], new Date(15)).point).toBe(point)
    const later = instantOf(['db', 'other', 'third'], all, [point], new Date(25))
    expect(later.point).toBeUndefined()
    expect(later.missing).toEqual(['third'])
  })
})
