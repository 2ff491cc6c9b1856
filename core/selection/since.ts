import type { Thing } from '../things/thing'

/** A few of many things, by path. */
export interface SomePaths {
  count: number
  first: string[]
}

/** What changed in what rules take since a point was made. */
export interface ChangesSince {
  /** Taken now, and not in the point. */
  fresh: SomePaths
  /** In the point, and not at the source any more. */
  gone: SomePaths
  /** In the point and still at the source, but taken no more. */
  dropped: SomePaths
  /** To be taken, and could not be read: by the point, or as discovery sees it now. */
  unreadable: { count: number; first: { path: string; why: string }[] }
}

const FIRST = 20

/**
 * Compares what rules take with what a point holds. What the point holds and discovery never saw is of a kind that it
 * does not list, and says nothing.
 *
 * @param before paths of what the point holds
 * @param unread what the point was to hold and does not, by path, with the reason
 * @param there whether something is at its source: `false` when it was and is gone, `undefined` when it was never seen
 */
export function changesSince(
  taken: readonly Thing[],
  before: ReadonlySet<string>,
  unread: ReadonlyMap<string, string>,
  there: (path: string) => boolean | undefined,
): ChangesSince {
  const now = new Set(taken.map(({ path }) => path))
  const lost = [...before].filter((path) => !now.has(path))
  const troubled = new Map(unread)
  for (const { path, facts } of taken) if (facts.trouble) troubled.set(path, facts.trouble)
  const some = (paths: string[]): SomePaths => ({ count: paths.length, first: paths.sort().slice(0, FIRST) })
  return {
    fresh: some([...now].filter((path) => !before.has(path) && !troubled.has(path))),
    gone: some(lost.filter((path) => there(path) === false)),
    dropped: some(lost.filter((path) => there(path) === true)),
    unreadable: { count: troubled.size, first: [...troubled].slice(0, FIRST).map(([path, why]) => ({ path, why })) },
  }
}
