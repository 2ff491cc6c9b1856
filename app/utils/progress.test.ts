import { describe, expect, it } from 'vitest'
import { movedInWords, shareOf } from './progress'

describe('what was moved', () => {
  it('is told by its kinds', () => {
    expect(movedInWords({ rows: 12_000, objects: 3, files: 1, bytes: 7 })).toBe('12,000 rows, 3 objects and 1 file')
    expect(movedInWords({ files: 2 })).toBe('2 files')
    expect(movedInWords({ structures: 4 })).toBe('')
  })
})

describe('how far a run is', () => {
  it('goes by rows and files where they are expected', () => {
    expect(shareOf({ rows: 50, 'rows expected': 100, objects: 9, 'objects expected': 9 })).toBe(0.5)
    expect(shareOf({ rows: 100, 'rows expected': 100, 'files expected': 10 })).toBe(0.5)
    // What was counted beforehand may have grown since.
    expect(shareOf({ rows: 110, 'rows expected': 100 })).toBe(1)
  })

  it('is not over before what was written is read back, which takes less time', () => {
    const written = { files: 10, 'files expected': 10, 'files checked expected': 10 }
    expect(shareOf(written)).toBeCloseTo(0.8)
    expect(shareOf({ ...written, 'files checked': 5 })).toBeCloseTo(0.9)
    expect(shareOf({ ...written, 'files checked': 10 })).toBe(1)
  })

  it('goes by objects or bytes where there is nothing else, and is not known where nothing is expected', () => {
    expect(shareOf({ objects: 1, 'objects expected': 4, 'files expected': 0 })).toBe(0.25)
    expect(shareOf({ bytes: 1, 'bytes expected': 2 })).toBe(0.5)
    expect(shareOf({ files: 3, bytes: 10 })).toBeNull()
  })
})
