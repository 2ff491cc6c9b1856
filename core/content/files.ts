import type { FileEntry } from './manifest'

/** What makes a file the one that it is, apart from its path: type, mode, size, link and content. */
export const traitsOf = ({ type, mode, size, target, sha256 }: FileEntry) => [type, mode, size, target ?? null, sha256 ?? null]
export const isSameFile = (a: FileEntry, b: FileEntry) => JSON.stringify(traitsOf(a)) === JSON.stringify(traitsOf(b))
