import { describe, expect, it } from 'vitest'
import { folderToRead, readTroubles, type ReadFrom } from './reads'
import { NOT_HELD, type HoldStep, type QuiesceSequence } from './sequence'

const VOLUME = 'pier/boarding/volume/data'
const quiesce = (...reads: ReadFrom[]): QuiesceSequence => ({ ...NOT_HELD, steps: [{ name: 'freeze' } as HoldStep], reads })

describe('a volume', () => {
  it('is read from its root, from a folder, or from what a step returned', () => {
    expect(folderToRead(quiesce(), VOLUME, {})).toEqual({ folder: '', trouble: null })
    expect(folderToRead(quiesce({ volume: VOLUME, folder: 'current/' }), VOLUME, {})).toEqual({ folder: 'current', trouble: null })
    const returned = quiesce({ volume: VOLUME, folder: '/frozen/{freeze.name}' })
    expect(folderToRead(returned, VOLUME, { freeze: { name: 'at 4' } })).toEqual({ folder: 'frozen/at 4', trouble: null })
    expect(folderToRead(returned, 'pier/boarding/volume/other', {})).toEqual({ folder: '', trouble: null })
  })

  it('is not read where a step returned nothing, or what leads out of it', () => {
    const returned = quiesce({ volume: VOLUME, folder: '{freeze.path}' })
    expect(folderToRead(returned, VOLUME, { freeze: {} }).trouble).toContain('freeze.path')
    for (const path of ['../other', 'a/../../b', '/../etc'])
      expect(folderToRead(returned, VOLUME, { freeze: { path } }).trouble).toContain('leads out of it')
  })

  it('can’t be read from what makes no sense', () => {
    expect(readTroubles(quiesce({ volume: VOLUME, folder: '{freeze.path}' }))).toEqual([])
    const all = readTroubles(
      quiesce(
        { volume: VOLUME, folder: '{thaw.path}' },
        { volume: VOLUME, folder: ' ' },
        { volume: 'pier/boarding', folder: 'x' },
        { volume: 'pier/boarding/volume/b', folder: '../x' },
      ),
    )
    expect(all.map((text) => text.replace(`The folder that ${VOLUME} is read from `, ''))).toEqual([
      'uses a value of “thaw”, and no step is called that.',
      'is named twice.',
      'is empty.',
      'A folder to read from names no volume.',
      'The folder that pier/boarding/volume/b is read from leads out of the volume.',
    ])
  })
})
