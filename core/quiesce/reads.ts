import { safePath } from '../content/tree-path'
import { namesOf } from '../things/thing'
import type { QuiesceSequence } from './sequence'
import { fillIn, namesIn, type StepValues } from './values'

/** A volume that is not read from its root, but from a folder in it: always the same, or one that a step returned. */
export interface ReadFrom {
  /** The volume's path. */
  volume: string
  /** From the volume's root; may hold values of steps, as in `{freeze.path}`. */
  folder: string
}

const MOST_READS = 100

/** What keeps folders to read from being used, in words. */
export function readTroubles({ steps, reads = [] }: QuiesceSequence): string[] {
  const troubles: string[] = []
  if (reads.length > MOST_READS) troubles.push(`At most ${MOST_READS} volumes are read from folders.`)
  const known = new Set(steps.map(({ name }) => name))
  const seen = new Set<string>()
  for (const { volume, folder } of reads) {
    const [, , kind] = namesOf(volume)
    if (kind !== 'volume') {
      troubles.push('A folder to read from names no volume.')
      continue
    }
    const say = (what: string) => troubles.push(`The folder that ${volume} is read from ${what}.`)
    if (seen.has(volume)) say('is named twice')
    seen.add(volume)
    if (folder.trim() === '') say('is empty')
    if (safePath(folder.replace(/^\//, '')) === null) say('leads out of the volume')
    const strange = namesIn(folder).find(({ step }) => !known.has(step))
    if (strange) say(`uses a value of “${strange.step}”, and no step is called that`)
  }
  return troubles
}

/**
 * The folder of a volume that is read, from its root and without a slash before it; empty for all of it.
 * @returns why it is not known instead, when a step did not return what is named, or something that leads elsewhere
 */
export function folderToRead(
  quiesce: QuiesceSequence,
  volume: string,
  values: Record<string, StepValues>,
): { folder: string; trouble: string | null } {
  const read = quiesce.reads?.find((read) => read.volume === volume)
  if (!read) return { folder: '', trouble: null }
  const { text, missing } = fillIn(read.folder, values)
  if (missing !== null) return { folder: '', trouble: `${missing} says which folder of it is to be read, and no step returned that.` }
  // Where a step runs the volume is mounted somewhere, and the folder may begin with a slash.
  const folder = safePath(text.replace(/^\/+/, ''))
  if (folder === null) return { folder: '', trouble: `The folder that is to be read, ${text}, leads out of it.` }
  return { folder, trouble: null }
}
