import { describe, expect, it } from 'vitest'
import type { Thing } from '../things/thing'
import { select, type Rule } from './rules'
import { few, summarize } from './summary'

const thing = (path: string, kind: Thing['kind'] = 'table', bytes?: number, trouble?: string): Thing => ({
  path,
  kind,
  labels: {},
  facts: { ...(bytes === undefined ? {} : { bytes, rows: bytes / 10 }), ...(trouble ? { trouble } : {}) },
})
const things = [
  thing('db/a/s/one', 'table', 100),
  thing('db/a/s/two', 'table', 300),
  thing('db/a/s/v', 'view'),
  thing('db/a/s/tmp_x', 'table', 50),
  thing('db/a/t/closed', 'table', 10, 'It may not be read.'),
  thing('db/b/s/elsewhere', 'table', 900),
]
const rules: Rule[] = [
  { id: 's', act: 'take', kind: 'schema', pattern: 'db/a/s' },
  { id: 'tmp', act: 'leave', kind: 'thing', pattern: 'db/a/*/tmp_*' },
]

describe('few', () => {
  it('adds up and puts the heaviest first', () => {
    const result = few(things.slice(0, 3))
    expect(result).toMatchObject({
      count: 3,
      tables: 2,
      bytes: 400,
      rows: 40,
      kinds: [
        ['table', 2],
        ['view', 1],
      ],
    })
    expect(result.first.map(({ path }) => path)).toEqual(['db/a/s/two', 'db/a/s/one', 'db/a/s/v'])
  })

  it('counts objects of clusters by the kinds that their API gives them', () => {
    const object = (name: string, kind: string): Thing => ({ ...thing(`pier/kiosk/apps/${kind}/${name}`, 'object'), facts: { kind } })
    const all = [object('a', 'Deployment'), object('b', 'Secret'), object('c', 'Deployment'), thing('pier/kiosk/volume/v', 'volume')]
    expect(few(all)).toMatchObject({
      objects: 3,
      volumes: 1,
      kinds: [
        ['Deployment', 2],
        ['Secret', 1],
        ['volume', 1],
      ],
    })
  })

  it('stays small however many things there are', () => {
    expect(few(Array.from({ length: 5000 }, (_, i) => thing(`db/a/s/${i}`, 'table', i))).first).toHaveLength(40)
  })
})

describe('summarize', () => {
  it('says what is taken, left, named by no rule, and by which rule', () => {
    const summary = summarize(select(rules, things))
    expect([summary.taken.count, summary.left.count, summary.unnamed.count]).toEqual([3, 1, 1])
    expect(summary.rules.s).toMatchObject({ count: 3, names: 4 })
    expect(summary.rules.tmp).toMatchObject({ count: 1, names: 1 })
    expect(summary.unnamed.first[0]!.path).toBe('db/a/t/closed')
  })

  it('names what is taken and can’t be captured', () => {
    const all: Rule[] = [{ id: 'a', act: 'take', kind: 'database', pattern: 'db/a' }]
    expect(summarize(select(all, things)).troubled).toEqual([{ path: 'db/a/t/closed', trouble: 'It may not be read.' }])
  })

  it('counts all that no rule names, in the groups that one rule would decide over', () => {
    const many = Array.from({ length: 5000 }, (_, i) => thing(`db/a/big/${i}`, 'table', i))
    const summary = summarize(select([{ id: 's', act: 'take', kind: 'schema', pattern: 'db/a/s' }], [...things, ...many]))
    expect(summary.leftOver).toEqual([
      { path: 'db/a/big', kind: 'schema', count: 5000, names: ['0', '1', '2', '3'] },
      { path: 'db/a/t', kind: 'schema', count: 1, names: ['closed'] },
    ])
    expect(summary.leftOverGroups).toBe(2)
  })

  it('marks what is new against other rules, also among thousands, and tells an exchange from no change', () => {
    const many = Array.from({ length: 5000 }, (_, i) => thing(`db/a/big/${i}`, 'table', i))
    const all = [...things, ...many]
    const before: Rule[] = [{ id: 'big', act: 'take', kind: 'schema', pattern: 'db/a/big' }]
    const [earlier, now] = [select(before, all), select([...before, ...rules], all)]
    const summary = summarize(now, earlier)
    expect(summary.than).toMatchObject({ count: 5000, fresh: 3, dropped: 0 })
    expect(summary.rules.s!.first.every(({ isNew }) => isNew)).toBe(true)
    expect(summary.rules.big!.first.some(({ isNew }) => isNew)).toBe(false)
    const selected = (name: string) => select([{ id: 'x', act: 'take', kind: 'thing', pattern: `db/a/s/${name}` }], all)
    expect(summarize(selected('one'), selected('two')).than).toEqual({ count: 1, bytes: 300, fresh: 1, dropped: 1 })
    expect(summarize(now).than).toBeNull()
  })
})
