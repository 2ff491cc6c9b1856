import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { paired } from './paired'

describe('two lists side by side', () => {
  it('have each item once, with the one of the same path where there is one', async () => {
    const list = fc
      .uniqueArray(fc.string({ maxLength: 2 }))
      .map((paths) => paths.sort((a, b) => (a < b ? -1 : 1)).map((path) => ({ path })))
    await fc.assert(
      fc.asyncProperty(list, list, async (a, b) => {
        const found: (string | null)[][] = []
        for await (const [first, other] of paired(a, b)) found.push([first?.path ?? null, other?.path ?? null])
        const paths = [...new Set([...a, ...b].map(({ path }) => path))].sort((x, y) => (x < y ? -1 : 1))
        const has = (some: { path: string }[], path: string) => (some.some((thing) => thing.path === path) ? path : null)
        expect(found).toEqual(paths.map((path) => [has(a, path), has(b, path)]))
      }),
    )
  })
})
