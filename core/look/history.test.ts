import { describe, expect, it } from 'vitest'
import { historyOf, type Sighting } from './history'

const at = (point: string, lines: string[] | null, columns = ['id', 'fare', 'state']): Sighting<string> => ({ point, columns, lines })
const fates = (...sightings: Sighting<string>[]) => historyOf(sightings, ['id']).map(({ fate, changed }) => [fate, ...changed])

describe('the history of rows', () => {
  it('tells from point to point what became of them', () => {
    expect(
      fates(
        at('1', []),
        at('2', ['7\t10\theld']),
        at('3', ['7\t10\theld']),
        at('4', ['7\t12\tpaid']),
        at('5', []),
        at('6', ['7\t12\tpaid']),
        at('7', null),
        at('8', ['7\t12\tpaid']),
      ),
    ).toEqual([['absent'], ['appeared'], ['same'], ['changed', 'fare', 'state'], ['gone'], ['appeared'], ['no table'], ['appeared']])
  })

  it('begins with what the oldest point holds', () => {
    expect(fates(at('1', ['7\t10\theld']))).toEqual([['first']])
  })

  it('sees a column that was added, and rows in another order as the same', () => {
    expect(fates(at('1', ['7\t10\theld']), at('2', ['7\t10\theld\tx'], ['id', 'fare', 'state', 'flag']))[1]).toEqual(['changed', 'flag'])
    expect(fates(at('1', ['7\t1\ta', '8\t1\ta']), at('2', ['8\t1\ta', '7\t1\ta']))[1]).toEqual(['same'])
  })
})
