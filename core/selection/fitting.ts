import { fitsLabels, parseLabelSelector } from './labels'

interface Labelled {
  kind: string
  labels?: Record<string, string>
}

/**
 * Things of some kinds (of all without any), whose labels fit a selector. What has no labels at all, such as a table, fits
 * an empty selector only.
 *
 * @returns what fits, or why the selector can't be read
 */
export function fittingThings<T extends Labelled>(
  things: readonly T[],
  kinds: readonly string[],
  labels: string,
): T[] | { trouble: string } {
  const { selector, trouble } = parseLabelSelector(labels)
  if (selector === null) return { trouble }
  const isOfKind = (thing: T) => kinds.length === 0 || kinds.includes(thing.kind)
  return things.filter((thing) => isOfKind(thing) && (selector.length === 0 || (thing.labels && fitsLabels(selector, thing.labels))))
}
