import type { Damage, Missing } from './manifest'

/** What a point does not have: `lost` is nowhere, `atSource` is at its source only. Notes tell of what never can be in one. */
export function sortMissing(missing: Missing[]): { lost: Missing[]; atSource: Missing[] } {
  const atSource = missing.filter(({ onlyAt }) => onlyAt !== undefined)
  return { lost: missing.filter(({ note, onlyAt }) => !note && onlyAt === undefined), atSource }
}

/** What a point lacks of what it was to hold. */
export interface Lack {
  /** Things that could not be captured, or can't be read any more. */
  count: number
  /** The first of them, with the reason. */
  first: string
}

/** What is missing in a point, or damaged; null when it is whole. What is only at its source is missing, too. */
export function lackOf({ missing, damage }: { missing: Missing[]; damage: Damage[] | null }): Lack | null {
  const all = [...missing.filter(({ note }) => !note), ...(damage ?? [])]
  return all[0] ? { count: all.length, first: `${all[0].path}: ${all[0].reason}` } : null
}
