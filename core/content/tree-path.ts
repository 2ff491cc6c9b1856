/**
 * A path out of an archive as it may be used below a root: without dots, without a slash before it; null when it
 * would lead out of the root, or is no path.
 */
export function safePath(path: string): string | null {
  if (path.includes('\0') || path.startsWith('/')) return null
  const parts = path.split('/').filter((part) => part !== '' && part !== '.')
  return parts.includes('..') ? null : parts.join('/')
}
