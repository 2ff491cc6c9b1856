import { describe, expect, it } from 'vitest'
import { fittingThings } from './fitting'

const things: { name: string; kind: string; labels?: Record<string, string> }[] = [
  { name: 'gate', kind: 'Deployment', labels: { app: 'gate' } },
  { name: 'gate', kind: 'Service', labels: { app: 'gate' } },
  { name: 'desk', kind: 'Deployment', labels: {} },
  { name: 'leg', kind: 'table' },
]
const names = (kinds: string[], labels: string) => {
  const found = fittingThings(things, kinds, labels)
  return 'trouble' in found ? found.trouble : found.map(({ kind, name }) => `${kind} ${name}`)
}

describe('things picked by kind and label', () => {
  it('are those of the kinds whose labels fit', () => {
    expect(names(['Deployment'], '')).toEqual(['Deployment gate', 'Deployment desk'])
    expect(names([], 'app=gate')).toEqual(['Deployment gate', 'Service gate'])
    expect(names(['Deployment', 'table'], '!app')).toEqual(['Deployment desk'])
    expect(names([], '')).toHaveLength(4)
  })
  it('are none while the selector can’t be read, which is said', () => {
    expect(names([], 'app=')).toEqual([])
    expect(names([], 'app in (')).toMatch(/\w/)
  })
})
