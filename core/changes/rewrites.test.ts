import { describe, expect, it } from 'vitest'
import type { TableManifest } from '../content/manifest'
import { table as tableOf } from '../../tests/support/manifests'
import { brokenBy, REWRITE } from './rewrites'
import { keepsShape, type Shape } from './shapes'

const base: TableManifest = {
  ...tableOf('leg', 16400),
  columns: ['id', 'v'],
  numbers: [1, 2],
  versions: ['700', '700'],
  filenode: 100,
  key: ['id'],
  identityKey: [1],
}
const changed = (change: Partial<TableManifest>): TableManifest => ({ ...base, ...change })

describe('rows of a table after a change of its structure', () => {
  it('can be read as long as nothing but their file is new', () => {
    expect(brokenBy(base, base, null)).toBeNull()
    expect(brokenBy(base, changed({ filenode: 101 }), null)).toBeNull()
    expect(brokenBy(base, changed({ versions: ['700', '701'] }), null)).toBeNull()
    expect(brokenBy(base, changed({ filenode: 101 }), REWRITE.access | REWRITE.persistence)).toBeNull()
  })

  it('are not known after a rewrite of their values, told by the source or seen in its catalogs', () => {
    expect(brokenBy(base, changed({ filenode: 101, versions: ['700', '701'] }), null)).toContain('written anew')
    expect(brokenBy(base, base, REWRITE.type)).toContain('written anew')
    const grown = changed({ columns: ['id', 'v', 'stamp'], numbers: [1, 2, 3], versions: ['700', '700', '701'] })
    expect(brokenBy(base, grown, REWRITE.default)).toContain('written anew')
    expect(brokenBy(base, grown, 0)).toBeNull()
    expect(brokenBy(base, { ...grown, filenode: 101 }, null)).toContain('written anew')
  })

  it('are not known when other columns tell them apart', () => {
    expect(brokenBy(base, changed({ identityKey: [2] }), 0)).toContain('tells its rows apart')
  })

  it('are not known when the type of a column was changed in itself', () => {
    const shapes = (label: string): TableManifest => changed({ shapes: [null, { labels: { 7: label } }] })
    expect(brokenBy(shapes('a'), shapes('a'), 0)).toBeNull()
    expect(brokenBy(shapes('a'), shapes('z'), 0)).toContain('column v was changed in itself')
  })
})

describe('the text of a value', () => {
  const row = (...attributes: [number, number, Shape | null][]): Shape => ({ attributes })
  it('stays when labels come to an enum, and not when one is renamed', () => {
    expect(keepsShape({ labels: { 1: 'a' } }, { labels: { 1: 'a', 2: 'b' } })).toBe(true)
    expect(keepsShape({ labels: { 1: 'a' } }, { labels: { 1: 'b' } })).toBe(false)
  })
  it('changes when a row type gains or loses an attribute, however deep', () => {
    expect(keepsShape(row([1, 23, null]), row([1, 23, null]))).toBe(true)
    expect(keepsShape(row([1, 23, null]), row([1, 23, null], [2, 25, null]))).toBe(false)
    expect(keepsShape(row([1, 900, { labels: { 1: 'a' } }]), row([1, 900, { labels: { 1: 'b' } }]))).toBe(false)
    expect(keepsShape(null, row([1, 23, null]))).toBe(false)
  })
})
