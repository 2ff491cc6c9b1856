import type { StructureStep } from '../../core/changes/manifest'
import type { ThingParts } from '../../core/restore/merge'
import { CATALOG } from '../../core/restore/structure'

const isOfRights = (keys: string[]) => keys.some((key) => /^\["(DEFAULT )?ACL"/.test(key))

/** Everything that a step did something to: catalog and object id. */
const keysOf = ({ touched, gone, tables }: StructureStep) => [...touched, ...gone, ...tables.map(({ oid }) => `${CATALOG.relation}/${oid}`)]

/** How a thing fared between two readings: touched before the position, touched after it, dropped by then. */
export class Touches {
  private readonly early = new Set<string>()
  private readonly late = new Set<string>()
  private readonly dropped = new Set<string>()
  private readonly more: [early: boolean, late: boolean]

  constructor(steps: StructureStep[], beyond: StructureStep[]) {
    for (const step of steps) {
      for (const key of keysOf(step)) this.early.add(key)
      for (const key of step.touched) this.dropped.delete(key)
      for (const key of step.gone) this.dropped.add(key)
    }
    for (const key of beyond.flatMap(keysOf)) this.late.add(key)
    this.more = [steps.some(({ more }) => more), beyond.some(({ more }) => more)]
  }

  /** Whether it was dropped by the position. */
  isGone(key: string): boolean {
    return this.dropped.has(key)
  }

  /** Whether a thing was touched up to the position. */
  isEarly(thing: string, parts: { before: string[] | null; after: string[] | null }): boolean {
    const all = [thing, ...(parts.before ?? []), ...(parts.after ?? [])]
    return all.some((key) => this.early.has(key)) || (this.more[0] && isOfRights(all))
  }

  /** From which reading a thing is taken, and whether that is how it was at the position. */
  of(thing: string, parts: ThingParts, same: boolean, needs: string[]): { from: 'before' | 'after' | null; exact: boolean } {
    const all = [thing, ...(parts.before ?? []), ...(parts.after ?? [])]
    const early = this.isEarly(thing, parts)
    const late = all.some((key) => this.late.has(key)) || (this.more[1] && isOfRights(all))
    if (!early && !late && !same) return this.bySideEffect(parts, needs)
    if (!early) return { from: parts.before ? 'before' : late ? null : 'after', exact: true }
    if (this.dropped.has(thing)) return { from: null, exact: true }
    if (!late) return { from: parts.after ? 'after' : null, exact: true }
    return { from: parts.after ? 'after' : parts.before ? 'before' : null, exact: false }
  }

  /** Something that no change was told of, and that is another by the next reading: it went along with one of them. */
  private bySideEffect(parts: ThingParts, needs: string[]): { from: 'before' | 'after' | null; exact: boolean } {
    const [isEarly, isLate] = [needs.some((key) => this.early.has(key)), needs.some((key) => this.late.has(key))]
    const known = isEarly || isLate
    const [some, more] = known ? [isEarly, isLate] : [this.early.size > 0 || this.more[0], this.late.size > 0 || this.more[1]]
    if (some && !more) return { from: parts.after ? 'after' : null, exact: true }
    return { from: parts.before ? 'before' : null, exact: !some }
  }
}
