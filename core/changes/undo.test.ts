import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { rowKey } from '../compare/rows'
import { isUndone, undone, undoRow } from './undo'

const value = fc.constantFrom('1', '2', '3')
const row = fc.option(
  fc.tuple(value, value, value).map((three) => [...three]),
  { nil: null },
)
const touched = fc.record({ key: fc.constant<string[]>(['k']), before: row, after: row, now: row })

describe('undoRow', () => {
  it('gives back exactly what was before where nothing came after', () => {
    fc.assert(
      fc.property(row, row, (before, after) => {
        const line = undoRow({ key: ['k'], before, after, now: after })
        expect(line.conflict).toBeNull()
        expect(undone(line)).toEqual(before)
      }),
    )
  })

  it('keeps every later change of other columns, and never overwrites a later one unasked', () => {
    fc.assert(
      fc.property(touched, ({ key, before, after, now }) => {
        const line = undoRow({ key, before, after, now })
        const result = undone(line)
        if (line.conflict !== null) {
          expect(isUndone(line, undefined)).toBe(false)
          expect(isUndone(line, 'undo')).toBe(line.act !== 'nothing')
          return
        }
        if (!before || !after || !now || !result) return
        now.forEach((current, i) => {
          if (before[i] === after[i]) expect(result[i]).toBe(current)
          else expect([before[i], current]).toContain(result[i])
        })
      }),
    )
  })

  it('says what stands in the way', () => {
    const rows = { before: ['1', 'a'], after: ['1', 'b'] }
    expect(undoRow({ key: ['1'], ...rows, now: ['1', 'c'] }).conflict).toContain('same columns')
    expect(undoRow({ key: ['1'], ...rows, now: null }).conflict).toContain('deleted since')
    expect(undoRow({ key: ['1'], before: ['1', 'a'], after: null, now: ['1', 'z'] }).conflict).toContain('inserted since')
    expect(undoRow({ key: ['1'], before: null, after: ['1', 'a'], now: ['1', 'z'] }).conflict).toContain('changed since')
    expect(undoRow({ key: ['1'], before: ['1', 'a'], after: null, now: ['1', 'a'] }).act).toBe('nothing')
  })
})

describe('the name of a row', () => {
  it('is another one for each key, whatever stands in its columns', () => {
    expect(rowKey(['a, b', 'c'])).not.toBe(rowKey(['a', 'b, c']))
    const key = fc.array(fc.string({ unit: fc.constantFrom(',', ' ', '"', '\\', '[', 'a') }), { maxLength: 3 })
    fc.assert(
      fc.property(key, key, (a, b) => {
        const isSame = a.length === b.length && a.every((part, i) => part === b[i])
        expect(rowKey(a) === rowKey(b)).toBe(isSame)
      }),
    )
  })
})
