import type { Missing } from './manifest'

/** What a point does not have: `lost` is nowhere, `left` is at its source only. Notes tell of what never can be in one. */
export function sortMissing(missing: Missing[]): { lost: Missing[]; left: Missing[] } {
  const left = missing.filter(({ onlyAt }) => onlyAt !== undefined)
  return { lost: missing.filter(({ note, onlyAt }) => !note && onlyAt === undefined), left }
}
