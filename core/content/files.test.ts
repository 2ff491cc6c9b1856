import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { isSameFile, mustBeRead, settled, withContentOf, type Listed } from './files'
import type { FileEntry } from './manifest'

const entry: FileEntry = {
  path: 'november/01.txt',
  type: 'file',
  mode: 0o644,
  uid: 7,
  gid: 7,
  mtime: 1_764_100_000_123,
  changed: '1764100000.1234567890',
  size: 12,
  digest: 'ab',
  chunks: ['c1'],
}
const listed: Listed = {
  path: entry.path,
  type: 'f',
  mode: entry.mode,
  uid: 7,
  gid: 7,
  mtime: entry.mtime,
  changed: '1764100000.1234567890',
  size: 12,
  links: 1,
}

describe('a file that was there before', () => {
  it('is not read when its size and both its times are as they were', () => {
    expect(mustBeRead(listed, entry)).toBe('no')
  })

  it('is read when it has another size or time, or was not there as a file', () => {
    expect(mustBeRead({ ...listed, size: 13 }, entry)).toBe('yes')
    expect(mustBeRead({ ...listed, mtime: entry.mtime + 1 }, entry)).toBe('yes')
    expect(mustBeRead(listed, undefined)).toBe('yes')
    expect(mustBeRead(listed, { ...entry, type: 'hard-link', target: 'x' })).toBe('yes')
    expect(mustBeRead({ ...listed, type: 'l' }, entry)).toBe('yes')
    expect(mustBeRead({ ...listed, links: 2 }, entry)).toBe('yes')
  })

  it('is compared by checksum when only the time that nobody can set tells of a change, or is not known', () => {
    expect(mustBeRead({ ...listed, changed: '1764100009.0000000000' }, entry)).toBe('compare')
    const { changed: _, ...unsure } = entry
    expect(mustBeRead(listed, unsure)).toBe('compare')
    const { digest: __, ...unknown } = entry
    expect(mustBeRead({ ...listed, changed: '1764100009.0000000000' }, unknown)).toBe('yes')
  })

  it('is never taken for unread when anything of it differs', () => {
    const changes = fc.record({
      size: fc.integer({ min: 0, max: 3 }),
      mtime: fc.integer({ min: 0, max: 3 }),
      changed: fc.integer({ min: 0, max: 3 }).map(String),
    })
    fc.assert(
      fc.property(changes, changes, (before, now) => {
        const isEqual = JSON.stringify(before) === JSON.stringify(now)
        expect(mustBeRead({ ...listed, ...now }, { ...entry, ...before }) === 'no').toBe(isEqual)
      }),
    )
  })

  it('has its owner, rights and times as they are now, and the content that it had', () => {
    const kept = withContentOf(entry, { ...listed, mode: 0o600, uid: 9, mtime: 5 }, undefined)
    expect(kept).toEqual({ ...entry, mode: 0o600, uid: 9, mtime: 5, changed: undefined })
    expect('changed' in kept).toBe(false)
    expect(isSameFile(kept, entry)).toBe(false)
    expect(isSameFile({ ...kept, mode: entry.mode }, entry)).toBe(true)
  })

  it('that was changed a moment ago is not known by that time', () => {
    expect(settled('1764100000.5', 1_764_100_001)).toBeUndefined()
    expect(settled('1764100000.5', 1_764_100_003)).toBe('1764100000.5')
  })
})
