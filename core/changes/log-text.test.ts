import { describe, expect, it } from 'vitest'
import { keepsText, projectionOf } from './columns'
import { beginLine, OP, parseBegin, scanLog } from './log-text'

const bytes = (text: string) => new TextEncoder().encode(text)

describe('scanLog', () => {
  const start = { xid: '742', position: '0/1A', at: 1_732_500_000_123_456, origin: null }
  const log = `${beginLine(start)}I\t12\t1\tü\nk\t12\t1\t\\N\nU\t12\t2\ty\nT\t1\t3\t12\nM\tpre\tcon\\ttent\nC\t0/2B\n${beginLine({ ...start, xid: '743', origin: 'o' })}d\t0\t5\nC\t0/3C\n`

  it('gives every record with its relation and row', () => {
    const seen: unknown[] = []
    scanLog(bytes(log), {
      begin: (transaction) => void seen.push(transaction),
      change: (op, relation, from, to) => seen.push([op, relation, new TextDecoder().decode(bytes(log).subarray(from, to))]),
      truncate: (relations, flags) => seen.push(['T', relations, flags]),
      message: (prefix, content) => seen.push(['M', prefix, content]),
      commit: (end) => void seen.push(end),
    })
    expect(seen).toEqual([
      start,
      [OP.insert, 12, '1\tü'],
      [OP.oldKey, 12, '1\t\\N'],
      [OP.update, 12, '2\ty'],
      ['T', [3, 12], 1],
      ['M', 'pre', 'con\ttent'],
      '0/2B',
      { ...start, xid: '743', origin: 'o' },
      [OP.deleteKey, 0, '5'],
      '0/3C',
    ])
  })

  it('gives back names that hold what parts records and fields', () => {
    const odd = { ...start, origin: 'a\tb\\N\n' }
    expect(parseBegin(beginLine(odd).slice(0, -1))).toEqual(odd)
  })

  it('stops where it is told to', () => {
    const ends: string[] = []
    expect(scanLog(bytes(log), { begin: ({ xid }) => xid !== '743', commit: (end) => void ends.push(end) })).toBe(false)
    expect(ends).toEqual(['0/2B'])
  })
})

describe('columns', () => {
  it('follow their numbers through renames, drops and additions', () => {
    expect(projectionOf([1, 2, 3], [1, 2, 3], [])).toBeNull()
    expect(projectionOf([1, 2, 3], [1, 3, 4], ['\\N', '\\N', 'x'])).toEqual({ at: [0, 2, -1], fill: ['\\N', '\\N', 'x'] })
    expect(projectionOf([1, 2], [1], [])).toEqual({ at: [0], fill: ['\\N'] })
  })

  it('keep their text under some changes of type only', () => {
    expect(keepsText('character varying(5)', 'text')).toBe(true)
    expect(keepsText('numeric(10,2)', 'numeric(12,2)')).toBe(true)
    expect(keepsText('integer', 'bigint')).toBe(false)
    expect(keepsText('timestamp with time zone', 'timestamp without time zone')).toBe(false)
  })
})
