import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { safePath } from './tree-path'

describe('safePath', () => {
  it('never leads out of its root', () => {
    for (const path of ['/etc/passwd', '../x', 'a/../../x', 'a/..', './..', 'a\0b']) expect(safePath(path)).toBeNull()
    expect(['./a/b', 'a//b/', '.', 'a..b/..c'].map(safePath)).toEqual(['a/b', 'a/b', '', 'a..b/..c'])
    fc.assert(
      fc.property(fc.array(fc.constantFrom('a', '..', '.', '', 'b c'), { maxLength: 6 }), (parts) => {
        const safe = safePath(parts.join('/'))
        if (safe !== null) expect(safe.split('/')).not.toContain('..')
        if (safe !== null) expect(safe.startsWith('/')).toBe(false)
      }),
    )
  })
})
