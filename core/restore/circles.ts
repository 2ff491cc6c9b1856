import type { DatabaseManifest } from '../content/manifest'
import { needsByRoot, rootsOf, type StructureEntry } from './structure'

/** Whether it gives a view its definition, where the dump made that with its columns alone. */
export const isViewDefinition = ({ type, name }: StructureEntry) => type === 'RULE' && name.endsWith(' _RETURN')

/**
 * Views that need something that needs them, such as a function that returns their rows: the dump makes them with
 * their columns alone first, and gives them their definition when that something is there.
 *
 * @returns for each such view (id of its entry) the id of the entry that defines it
 */
export function circlesOf({ entries, sequences }: DatabaseManifest): Map<number, number> {
  const rules = entries.filter(isViewDefinition)
  if (rules.length === 0) return new Map()
  const roots = rootsOf(entries, sequences)
  const needs = needsByRoot(entries, roots, (entry) => !isViewDefinition(entry))
  const reaches = (from: number, to: number, seen: Set<number>): boolean => {
    if (from === to) return true
    if (seen.has(from)) return false
    seen.add(from)
    return [...(needs.get(from) ?? [])].some((id) => reaches(id, to, seen))
  }
  return new Map(
    rules.flatMap((rule) => {
      const view = roots.get(rule.id)!
      const others = rule.needs.map((id) => roots.get(id) ?? id).filter((id) => id !== view)
      return others.some((id) => reaches(id, view, new Set())) ? [[view, rule.id] as const] : []
    }),
  )
}
