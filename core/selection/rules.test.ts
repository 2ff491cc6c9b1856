import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { pathOf, type Thing } from '../things/thing'
import { loggedPart, patternTrouble, rulesNaming, select, takesFrom, type Rule } from './rules'

const table = (...names: string[]): Thing => ({ path: pathOf('db', ...names), kind: 'table', labels: {}, facts: {} })
const rule = (id: string, act: Rule['act'], kind: Rule['kind'], pattern: string): Rule => ({ id, act, kind, pattern })

const things = [
  table('bookings', 'sales', 'booking'),
  table('bookings', 'sales', 'tmp_import'),
  table('bookings', 'sales', 'odd/name*'),
  table('bookings', 'audit', 'entry'),
  table('crewing', 'roster', 'watch'),
]

describe('select', () => {
  it('lets the last rule that fits decide, and tells what no rule names', () => {
    const rules = [rule('a', 'take', 'schema', 'db/bookings/sales'), rule('b', 'leave', 'thing', 'db/bookings/sales/tmp_*')]
    const selection = select(rules, things)
    expect(selection.taken).toEqual([things[0], things[2]])
    expect(selection.left).toEqual([things[1]])
    expect(selection.unnamed).toEqual([things[3]])
    expect(selection.byRule.get('a')).toEqual({ decides: [things[0], things[2]], names: 3 })
    expect(rulesNaming(rules, things[1]!.path).map((r) => r.id)).toEqual(['a', 'b'])
  })

  it('takes again what an earlier rule left', () => {
    const rules = [
      rule('a', 'take', 'database', 'db/*'),
      rule('b', 'leave', 'database', 'db/crew*'),
      rule('c', 'take', 'thing', 'db/crewing/*/w?tch'),
    ]
    expect(select(rules, things).taken).toEqual(things)
  })

  it('reads names with slashes, wildcards of regular expressions and stars as they are', () => {
    const exact = rule('a', 'take', 'thing', pathOf('db', 'bookings', 'sales', 'odd/name*'))
    expect(select([exact], things).taken).toEqual([things[2]])
    const dotted = rule('a', 'take', 'thing', 'db/bookings/sales/b.*')
    expect(select([dotted], things).taken).toEqual([])
  })

  it('says what is wrong with a pattern, and such a rule fits nothing', () => {
    expect(patternTrouble({ kind: 'schema', pattern: 'db/bookings' })).toContain('needs 3 names')
    expect(patternTrouble({ kind: 'database', pattern: 'db/' })).toContain('empty')
    expect(select([rule('a', 'take', 'schema', 'db/bookings')], things).taken).toEqual([])
  })

  it('puts each thing in at most one place, and decides over it by exactly one rule', () => {
    const names = fc.constantFrom('a', 'b', 'ab', 'ba', '*', 'a*', '?')
    const anyRule = fc.record({
      act: fc.constantFrom<Rule['act']>('take', 'leave'),
      kind: fc.constant<Rule['kind']>('thing'),
      pattern: fc.tuple(fc.constant('db'), names, names, names).map((parts) => parts.join('/')),
    })
    const plain = fc.constantFrom('a', 'b', 'ab', 'ba')
    const anyThing = fc.tuple(plain, plain, plain).map((parts) => table(...parts))
    fc.assert(
      fc.property(fc.array(anyRule, { maxLength: 6 }), fc.uniqueArray(anyThing, { selector: (t) => t.path }), (bare, all) => {
        const rules = bare.map((r, i) => ({ ...r, id: String(i) }))
        const { taken, left, unnamed, byRule } = select(rules, all)
        const placed = [...taken, ...left, ...unnamed]
        expect(new Set(placed).size).toBe(placed.length)
        const decided = [...byRule.values()].flatMap((entry) => entry.decides)
        expect(decided.length).toBe(taken.length + left.length)
        for (const thing of taken) expect(rulesNaming(rules, thing.path).at(-1)!.act).toBe('take')
      }),
    )
  })

  it('finds for each thing the rule that a look at every rule finds', () => {
    const names = fc.constantFrom('a', 'b', 'ab', '*', 'a*', '?', '')
    const anyRule = fc.record({
      act: fc.constantFrom<Rule['act']>('take', 'leave'),
      kind: fc.constantFrom<Rule['kind']>('database', 'schema', 'thing', 'namespace'),
      pattern: fc.array(names, { minLength: 1, maxLength: 4 }).map((parts) => parts.join('/')),
    })
    const anyThing = fc
      .array(fc.constantFrom('a', 'b', 'ab'), { minLength: 3, maxLength: 4 })
      .map((parts): Thing => ({ path: pathOf(...parts), kind: 'table', labels: {}, facts: {} }))
    fc.assert(
      fc.property(fc.array(anyRule, { maxLength: 8 }), fc.uniqueArray(anyThing, { selector: (thing) => thing.path }), (bare, all) => {
        const rules = bare.map((body, i): Rule => ({ id: String(i), ...body }))
        const { taken, left, unnamed, byRule } = select(rules, all)
        const decides = (thing: Thing) => rulesNaming(rules, thing.path).at(-1)
        expect(taken).toEqual(all.filter((thing) => decides(thing)?.act === 'take'))
        expect(left).toEqual(all.filter((thing) => decides(thing)?.act === 'leave'))
        const speaks = (thing: Thing) =>
          rules.some((rule) => {
            const parts = rule.pattern.split('/').slice(0, 2)
            return !patternTrouble(rule) && rulesNaming([{ ...rule, kind: 'database', pattern: parts.join('/') }], thing.path).length > 0
          })
        expect(unnamed).toEqual(all.filter((thing) => !decides(thing) && speaks(thing)))
        for (const rule of rules)
          expect(byRule.get(rule.id)).toEqual({
            decides: all.filter((thing) => decides(thing) === rule),
            names: all.filter((thing) => rulesNaming(rules, thing.path).includes(rule)).length,
          })
      }),
      { numRuns: 300 },
    )
  })

  it('tells from which containers something may be taken', () => {
    const rules = [rule('a', 'take', 'database', 'fer*/x'), rule('b', 'leave', 'database', 'crew/x')]
    expect(takesFrom(rules, 'ferry-db')).toBe(true)
    expect(takesFrom(rules, 'ferry-db', 'x')).toBe(true)
    expect(takesFrom(rules, 'ferry-db', 'y')).toBe(false)
    expect(takesFrom(rules, 'crew')).toBe(false)
  })

  it('tells how much of what is taken has a log', () => {
    const [database, namespace] = [rule('a', 'take', 'database', 'ferry-db/x'), rule('b', 'take', 'namespace', 'pier/boarding')]
    expect(loggedPart([])).toBe('all')
    expect(loggedPart([database, { ...namespace, act: 'leave' }])).toBe('all')
    expect(loggedPart([database, namespace])).toBe('some')
    expect(loggedPart([{ ...database, act: 'leave' }, namespace])).toBe('none')
  })
})
