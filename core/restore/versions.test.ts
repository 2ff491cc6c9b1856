import { describe, expect, it } from 'vitest'
import { versionChanges } from './versions'

describe('another version at the target', () => {
  it('is told with what changed in between, in either direction', () => {
    expect(versionChanges(15, 15)).toEqual([])
    expect(versionChanges(0, 15)).toEqual([])
    const newer = versionChanges(13, 15)
    expect(newer[0]).toContain('PostgreSQL 15, newer than 13')
    expect(newer.slice(1).map((line) => line.slice(0, 9))).toEqual(['Since 14:', 'Since 15:', 'Since 15:'])
    const older = versionChanges(16, 15)
    expect(older[0]).toContain('older than 16')
    expect(older[1]).toMatch(/^Not before 16: /)
  })
})
