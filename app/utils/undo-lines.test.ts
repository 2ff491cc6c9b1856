import { describe, expect, it } from 'vitest'
import { undoRow } from '../../core/changes/undo'
import type { UndoTable } from '../../server/views'
import { decidedAll, isDone, isOpen, undoLines, type UndoDecisions } from './undo-lines'

const row = (key: string[], now: string[] | null, before: string[] | null = [...key, 'then'], after: string[] | null = null) => ({
  ...undoRow({ key, before, after, now }),
  later: [],
})
const table = (name: string, rows: ReturnType<typeof row>[]): UndoTable => ({
  oid: 1,
  path: `db/d/public/${name}`,
  schema: 'public',
  name,
  columns: ['a', 'b', 'note'],
  types: ['text', 'text', 'text'],
  key: ['a', 'b'],
  rows,
})
// One can be undone as it is, two were inserted again since, and their keys read alike when they are joined.
const legs = table('leg', [row(['a', 'b'], null), row(['a, b', 'c'], ['a, b', 'c', 'again']), row(['a', 'b, c'], ['a', 'b, c', 'again'])])
const notes = table('note', [row(['x', 'y'], null)])
const keysOf = (lines: ReturnType<typeof undoLines>) => lines.flatMap(({ row: line }) => (line ? [line.key] : []))

describe('the rows of an undo', () => {
  it('are listed under their tables, of which those without a row are left out', () => {
    expect(undoLines([legs, notes], {}, 'all', '').map(({ table: { name }, row: one }) => [name, one?.key ?? null])).toEqual([
      ['leg', null],
      ['leg', ['a', 'b']],
      ['leg', ['a, b', 'c']],
      ['leg', ['a', 'b, c']],
      ['note', null],
      ['note', ['x', 'y']],
    ])
    expect(undoLines([legs, notes], {}, 'touched', '')[0]).toMatchObject({ shown: 2 })
  })

  it('are found by their keys and by any value, then or now', () => {
    expect(keysOf(undoLines([legs, notes], {}, 'all', 'AGAIN'))).toEqual([
      ['a, b', 'c'],
      ['a', 'b, c'],
    ])
    expect(keysOf(undoLines([legs, notes], {}, 'all', 'b, c'))).toEqual([['a', 'b, c']])
    expect(undoLines([legs, notes], {}, 'all', 'nowhere')).toEqual([])
  })

  it('are decided one by one, also where their keys read alike', () => {
    const [, , first, second] = undoLines([legs], {}, 'all', '')
    const decisions = decidedAll({}, [first!], 'undo')
    expect([first!, second!].map(({ row: one }) => isDone(decisions, legs, one!))).toEqual([true, false])
    expect(keysOf(undoLines([legs, notes], decisions, 'open', ''))).toEqual([['a', 'b, c']])
  })

  it('are decided together as far as they are listed, and nothing that was decided before is lost', () => {
    const before: UndoDecisions = { other: { k: 'leave' as const }, [notes.path]: { z: 'undo' as const } }
    const decisions = decidedAll(before, undoLines([legs, notes], {}, 'touched', ''), 'leave')
    expect(decisions).toMatchObject(before)
    expect(legs.rows.map((row) => [isDone(decisions, legs, row), isOpen(decisions, legs, row)])).toEqual([
      [true, false],
      [false, false],
      [false, false],
    ])
  })
})
