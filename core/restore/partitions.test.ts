import { describe, expect, it } from 'vitest'
import { structure, table } from '../../tests/support/manifests'
import { addFingerprints, rootToLoadThrough } from './partitions'

const root = (key: string) =>
  table('tinted', 1, {
    columns: ['c', 'n'],
    shapes: [{ labels: { 1: 'red' } }, null],
    structure: structure({ kind: 'partitioned', partitionKey: key }),
  })
const leaf = table('tinted_0', 2, { structure: structure({ partitionOf: '"sales"."tinted"' }) })

describe('rows of a partition', () => {
  it('are loaded through the root where their place hangs on the number of an enum’s label', () => {
    const hashed = root('HASH (c)')
    expect(rootToLoadThrough(leaf, [hashed, leaf])).toBe(hashed)
    expect(rootToLoadThrough(leaf, [root('HASH (n)'), leaf])).toBeNull()
    expect(rootToLoadThrough(leaf, [root('LIST (c)'), leaf])).toBeNull()
    expect(rootToLoadThrough(leaf, [leaf])).toBeNull()
    expect(rootToLoadThrough(hashed, [hashed])).toBeNull()
  })
  it('have one fingerprint together, however they are spread', () => {
    const [a, b] = [`${'f'.repeat(16)}${'0'.repeat(15)}1`, `${'0'.repeat(15)}2${'f'.repeat(16)}`]
    expect(addFingerprints([a, b])).toBe(addFingerprints([b, a]))
    expect(addFingerprints([a, b])).toBe(`${'0'.repeat(15)}1${'0'.repeat(16)}`)
    expect(addFingerprints([])).toBe('0'.repeat(32))
  })
})
