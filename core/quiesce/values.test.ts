import { describe, expect, it } from 'vitest'
import { fillIn, namesIn, valuesIn } from './values'

describe('values of steps', () => {
  it('are lines name=value; others are for people', () => {
    expect(valuesIn('frozen\npath=/data/a b=c\r\nentries=12\n =x\n1x=2\n')).toEqual({ path: '/data/a b=c', entries: '12' })
  })
  it('are put in where they are named, as the place wants them', () => {
    const values = { 'freeze gate': { path: "it's" } }
    expect(fillIn('read {freeze gate.path} {not} {a.b', values, (value) => `<${value}>`)).toEqual({
      text: "read <it's> {not} {a.b",
      missing: null,
    })
  })
  it('are told when a step did not return them', () => {
    expect(fillIn('{freeze.path}', { freeze: {} })).toMatchObject({ missing: 'freeze.path' })
    expect(fillIn('{freeze.toString}', { freeze: {} })).toMatchObject({ missing: 'freeze.toString' })
    expect(namesIn('{a.b}{a.c}')).toEqual([
      { step: 'a', name: 'b' },
      { step: 'a', name: 'c' },
    ])
  })
})
