import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { OP } from './log-text'
import { applyTo, linesOfEntries, newEntries, type ChunkChange } from './apply'
import { fill, isPartial, project } from './fields'
import { NetChanges, netRecords, type SharedNet } from './net'

const bytes = (text: string) => new TextEncoder().encode(text)
const text = (data: Uint8Array) => new TextDecoder().decode(data)

/** A state: rows `key TAB small TAB large` by key, as the source would hold them. */
type State = Map<string, [string, string]>
type Act = { act: 'insert' | 'update' | 'delete' | 'rekey' | 'truncate'; key: number; to: number; small: string; large: string | null }

const value = fc.constantFrom('a', 'b', '', 'ü', 'back\\\\slash', '\\N', '\\\\U')
const act = fc.record<Act>({
  act: fc.constantFrom('insert', 'insert', 'update', 'update', 'delete', 'rekey', 'truncate'),
  key: fc.nat(12),
  to: fc.nat(12),
  small: value,
  large: fc.option(value, { nil: null }),
})

const lineOf = (key: string, [small, large]: [string, string]) => `${key}\t${small}\t${large}`
const linesOf = (state: State) => [...state].map(([key, row]) => lineOf(key, row)).sort()

/** Does an act on the state as the source would, and records what the source would write; impossible ones are left out. */
function perform(state: State, net: NetChanges, { act: what, key: k, to: t, small, large }: Act): void {
  const [key, to] = [`k${k}`, `k${t}`]
  const row = state.get(key)
  if (what === 'insert' && !row) {
    state.set(key, [small, large ?? 'L'])
    net.take(OP.insert, bytes(lineOf(key, state.get(key)!)), null)
  } else if (what === 'update' && row) {
    state.set(key, [small, large ?? row[1]])
    net.take(OP.update, bytes(`${key}\t${small}\t${large ?? '\\U'}`), null)
  } else if (what === 'delete' && row) {
    state.delete(key)
    net.take(OP.deleteKey, bytes(`${key}\t\\N\t\\N`), null)
  } else if (what === 'rekey' && row && key !== to && !state.has(to)) {
    state.delete(key)
    state.set(to, [small, large ?? row[1]])
    net.take(OP.update, bytes(`${to}\t${small}\t${large ?? '\\U'}`), bytes(`${key}\t\\N\t\\N`))
  } else if (what === 'truncate') {
    state.clear()
    net.truncate()
  }
}

function applied(chunks: string[][], change: ChunkChange): string[] {
  const out = chunks.map((lines) => text(applyTo(bytes(lines.map((line) => `${line}\n`).join('')), change)))
  const fresh = change.net ? text(linesOfEntries(change.net, newEntries(change.net))) : ''
  return [...out, fresh].join('').split('\n').filter(Boolean).sort()
}

const initial = fc.uniqueArray(fc.nat(12), { maxLength: 12 })
const stateOf = (keys: number[]): State => new Map(keys.map((key) => [`k${key}`, [`s${key}`, `l${key}`] as [string, string]]))
const inChunks = (lines: string[]) => [lines.filter((_, i) => i % 3 === 0), lines.filter((_, i) => i % 3 !== 0)]
const empty = (net: SharedNet) => ({ ...net, found: new Uint8Array(new SharedArrayBuffer(net.found.length)) })

describe('NetChanges', () => {
  it('leads from any state to the one that the source has after the changes', () => {
    fc.assert(
      fc.property(initial, fc.array(act, { maxLength: 40 }), (keys, acts) => {
        const state = stateOf(keys)
        const before = linesOf(state)
        const net = new NetChanges([0])
        for (const act of acts) perform(state, net, act)
        expect(applied(inChunks(before), { net: net.share(), projection: null })).toEqual(linesOf(state))
      }),
      { numRuns: 2000 },
    )
  })

  it('is the same whether taken change by change or as net changes of stretches, one after the other', () => {
    fc.assert(
      fc.property(initial, fc.array(fc.array(act, { maxLength: 15 }), { minLength: 1, maxLength: 4 }), (keys, stretches) => {
        const state = stateOf(keys)
        const before = linesOf(state)
        const all = new NetChanges([0])
        for (const acts of stretches) {
          const changes = new NetChanges([0])
          for (const each of acts) perform(state, changes, each)
          const shared = changes.share()
          if (shared.emptied) all.truncate()
          all.takeNet(() => netRecords(shared))
        }
        expect(applied(inChunks(before), { net: all.share(), projection: null })).toEqual(linesOf(state))
      }),
      { numRuns: 2000 },
    )
  })

  it('gives a chunk the same rows each time and in any order', () => {
    const net = new NetChanges([0])
    net.take(OP.update, bytes('k1\tnew\t\\U'), null)
    net.take(OP.insert, bytes('k9\tfresh\tx'), null)
    const shared = net.share()
    const chunk = bytes('k0\ts\tl\nk1\ts\tl1\n')
    const once = text(applyTo(chunk, { net: shared, projection: null }))
    expect(once).toBe('k0\ts\tl\nk1\tnew\tl1\n')
    expect(text(applyTo(chunk, { net: empty(shared), projection: null }))).toBe(once)
    expect(newEntries(shared)).toHaveLength(1)
  })

  it('refuses to make up a value that nobody knows', () => {
    const net = new NetChanges([0])
    net.take(OP.update, bytes('k1\tnew\t\\U'), null)
    const shared = net.share()
    expect(() => linesOfEntries(shared, newEntries(shared))).toThrow('not in the state before')
  })

  it('finds keys of several columns and keys that do not come first', () => {
    const net = new NetChanges([2, 1])
    net.take(OP.deleteKey, bytes('\\N\tb\ta'), null)
    net.take(OP.update, bytes('1\tb\tc'), bytes('\\N\tx\ty'))
    const rest = applyTo(bytes('0\tb\ta\n0\tx\ty\n0\ta\tb\n'), { net: net.share(), projection: null })
    expect(text(rest)).toBe('1\tb\tc\n0\ta\tb\n')
  })

  it('turns rows into later columns on the way', () => {
    const net = new NetChanges([1])
    net.take(OP.update, bytes('new\tk1\t\\U\t7'), null)
    const projection = { at: [2, 0, 1, -1], fill: ['\\N', '\\N', '\\N', '42'] }
    const chunk = bytes('k0\tb0\ta0\nk1\tb1\ta1\n')
    expect(text(applyTo(chunk, { net: net.share(), projection }))).toBe('a0\tk0\tb0\t42\nnew\tk1\tb1\t7\n')
    expect(text(applyTo(chunk, { net: null, projection }))).toBe('a0\tk0\tb0\t42\na1\tk1\tb1\t42\n')
  })

  it('keeps every byte of what it does not touch', () => {
    const odd = Uint8Array.of(0xff, 0x80, 0x9f, 0xc3)
    const row = new Uint8Array([...bytes('k\t'), ...odd])
    expect([...fill(new Uint8Array([...bytes('k\t\\U')]), row)]).toEqual([...row])
    expect([...project(row, { at: [1, 0], fill: ['', ''] })]).toEqual([...odd, ...bytes('\tk')])
    expect(isPartial(bytes('a\\\\U\tb'))).toBe(false)
    expect(isPartial(bytes('a\\\\\t\\U'))).toBe(true)
  })
})
