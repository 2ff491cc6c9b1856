import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import {
  canonicalValue,
  compareValues,
  filterOf,
  keyRangeOf,
  needleOf,
  orderingOf,
  readFilter,
  readyFilter,
  type Condition,
} from './filter'

describe('conditions in an address', () => {
  it('are read as they were written, and nothing else is', () => {
    const all: Condition[] = [
      { column: 'fare', op: '≥', value: '9.5' },
      { column: 'note', op: 'is null', value: '' },
    ]
    expect(readFilter(JSON.stringify(all))).toEqual(all)
    for (const odd of ['', '{', 'null', '{"column": "a"}', '[1, null, {"column": "a", "op": "drop", "value": ""}]'])
      expect(readFilter(odd)).toEqual([])
  })
})

const types = [
  { name: 'id', type: 'bigint' },
  { name: 'fare', type: 'numeric(8,2)' },
  { name: 'at', type: 'timestamp with time zone' },
  { name: 'paid', type: 'boolean' },
  { name: 'note', type: 'text' },
  { name: 'list', type: 'integer[]' },
]
const columns = types.map(({ name }) => name)
const holds = (line: string, ...conditions: Condition[]) => filterOf(readyFilter(conditions, columns, types))(line)
const line = '42\t9.50\t2026-11-23 09:41:07+00\tt\ta\\tb \\\\ Größe\t{1,2}'

describe('a filter', () => {
  it('compares by the type of the column', () => {
    expect(holds(line, { column: 'id', op: '=', value: ' 42 ' })).toBe(true)
    expect(holds(line, { column: 'id', op: '<', value: '100' })).toBe(true)
    expect(holds(line, { column: 'fare', op: '=', value: '9.5' })).toBe(true)
    expect(holds(line, { column: 'fare', op: '>', value: '10' })).toBe(false)
    expect(holds(line, { column: 'at', op: '>', value: '2026-11-23' })).toBe(true)
    expect(holds(line, { column: 'at', op: '<', value: '2026-11-23 11:41:08+02' })).toBe(true)
    expect(holds(line, { column: 'at', op: '<', value: '2026-11-23T09:41:07Z' })).toBe(false)
    expect(holds(line, { column: 'paid', op: '=', value: 'true' })).toBe(true)
    expect(holds(line, { column: 'note', op: '=', value: 'a\tb \\ Größe' })).toBe(true)
    expect(holds(line, { column: 'note', op: 'contains', value: 'größe' })).toBe(true)
  })

  it('needs every condition to hold, and null satisfies none but “is null”', () => {
    expect(holds(line, { column: 'id', op: '=', value: '42' }, { column: 'paid', op: '=', value: 'no' })).toBe(false)
    const empty = '1\t\\N\t\\N\t\\N\t\\N\t\\N'
    expect(holds(empty, { column: 'fare', op: '≠', value: '1' })).toBe(false)
    expect(holds(empty, { column: 'fare', op: 'is null', value: '' })).toBe(true)
    expect(holds(line, { column: 'fare', op: 'is not null', value: '' })).toBe(true)
  })

  it('says which value does not fit its column, and which column is not there', () => {
    const code = (condition: Condition) => {
      try {
        readyFilter([condition], columns, types)
        return null
      } catch (error) {
        return (error as { code: string }).code
      }
    }
    expect(code({ column: 'id', op: '=', value: 'forty-two' })).toBe('filter_value')
    expect(code({ column: 'id', op: '=', value: '4.2' })).toBe('filter_value')
    expect(code({ column: 'at', op: '>', value: 'last week' })).toBe('filter_value')
    expect(code({ column: 'at', op: '>', value: '2026-13-40' })).toBe('filter_value')
    expect(code({ column: 'paid', op: '=', value: 'perhaps' })).toBe('filter_value')
    expect(code({ column: 'nothing', op: '=', value: '1' })).toBe('filter_column')
    expect(code({ column: 'list', op: '=', value: '{1,2}' })).toBe(null)
  })
})

describe('the order of values', () => {
  it('is exact for integers of any length', () => {
    fc.assert(
      fc.property(fc.bigInt({ min: -(2n ** 70n), max: 2n ** 70n }), fc.bigInt({ min: -(2n ** 70n), max: 2n ** 70n }), (a, b) => {
        expect(Math.sign(compareValues(String(a), String(b), 'number'))).toBe(a < b ? -1 : a > b ? 1 : 0)
      }),
    )
    expect(compareValues('9007199254740993.1', '9007199254740993.10', 'number')).toBe(0)
    expect(compareValues('0.1234567890123456789', '0.1234567890123456788', 'number')).toBe(1)
  })

  it('is that of PostgreSQL at the edges', () => {
    const sorted = (values: string[], type: 'number' | 'time') => [...values].reverse().sort((a, b) => compareValues(a, b, type))
    const numbers = ['-Infinity', '-1.5', '0', '1e3', 'Infinity', 'NaN']
    expect(sorted(numbers, 'number')).toEqual(numbers)
    const times = ['-infinity', '4714-11-24 BC', '0044-03-15 BC', '0044-03-14', '2026-11-23', '294276-12-31', 'infinity']
    expect(sorted(times, 'time')).toEqual(times)
  })
})

describe('what narrows the search', () => {
  it('is a range of an integer key, and a text that must be there', () => {
    const ready = readyFilter(
      [
        { column: 'id', op: '≥', value: '10' },
        { column: 'id', op: '<', value: '20' },
        { column: 'note', op: '=', value: 'a\tb' },
      ],
      columns,
      types,
    )
    expect(keyRangeOf(ready, 0)).toEqual({ min: 10n, max: 20n })
    expect(keyRangeOf(ready, 4)).toEqual({ min: null, max: null })
    expect(needleOf(ready)).toBe('a\\tb')
  })
})

it('types are told apart by their names, arrays are texts', () => {
  expect(['integer', 'numeric(5,2)', 'date', 'uuid', 'integer[]', 'timestamp without time zone', 'sales.fare'].map(orderingOf)).toEqual([
    'number',
    'number',
    'time',
    'uuid',
    'text',
    'time',
    'text',
  ])
  expect(canonicalValue('A0EEBC99-9C0B-4EF8-BB6D-6BB9BD380A11', 'uuid', 'uuid')).toBe('a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11')
})
