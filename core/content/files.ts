import { withinAny } from '../things/thing'
import type { FileEntry } from './manifest'

/** What of a volume's entries is picked: files themselves, and folders with all that is in them. */
export async function* pickedOf(entries: AsyncIterable<FileEntry>, picks: string[]): AsyncGenerator<FileEntry> {
  const isPicked = withinAny(picks)
  for await (const entry of entries) if (isPicked(entry.path)) yield entry
}

/** What makes a file the one that it is, apart from its path: type, mode, size, link and content. */
export const traitsOf = ({ type, mode, size, target, digest }: FileEntry) => [type, mode, size, target ?? null, digest ?? null]
export const isSameFile = (a: FileEntry, b: FileEntry) => JSON.stringify(traitsOf(a)) === JSON.stringify(traitsOf(b))

/** What a look at something in a volume tells without reading it. */
export interface Listed extends Pick<FileEntry, 'path' | 'mode' | 'uid' | 'gid' | 'mtime' | 'size'> {
  /** As the utility `find` writes it: `f` for a file. */
  type: string
  /** When its content, its owner or its rights were last changed, in seconds since 1970, to the nanosecond; nobody can set it. */
  changed: string
  /** How many names it has. */
  links: number
}

/**
 * Whether a file has to be read again: `no` when its size and both its times are as they were; `compare` when only its
 * size and the time of its content are, which a program may have set back; `yes` for everything else.
 */
export function mustBeRead(now: Listed, before: FileEntry | undefined): 'yes' | 'compare' | 'no' {
  // A file with several names is told once as a file and then as links to it, by the order in which they come.
  if (now.type !== 'f' || now.links > 1 || before?.type !== 'file') return 'yes'
  if (before.size !== now.size || before.mtime !== now.mtime || before.digest === undefined) return 'yes'
  return before.changed === now.changed ? 'no' : 'compare'
}

/** A file with the content that it had, and all else as it is now. */
export function withContentOf(before: FileEntry, { mode, uid, gid, mtime }: Listed, changed: string | undefined): FileEntry {
  const { changed: _, ...rest } = before
  return { ...rest, mode, uid, gid, mtime, ...(changed === undefined ? {} : { changed }) }
}

/** A file that was changed so lately may be changed again within the same tick of the clock that stamps it. */
const SETTLED_AFTER_S = 2

/** The time at which it was changed, if one can go by it the next time. */
export const settled = (changed: string, now: number): string | undefined => (Number(changed) < now - SETTLED_AFTER_S ? changed : undefined)
