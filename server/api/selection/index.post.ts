import * as v from 'valibot'
import { claimed } from '../../../engine/catalog/claims'
import { summarize } from '../../../core/selection/summary'
import { patternTrouble, select } from '../../../core/selection/rules'

const Body = v.strictObject({
  rules: Rules,
  vessel: v.optional(v.nullable(v.string()), null),
  /** Rules of before, with which they are compared. */
  than: v.optional(v.nullable(Rules), null),
})

/** What rules take and leave of everything that discovery has found. */
export default route(async (engine, event) => {
  const { rules, vessel, than } = await bodyOf(event, Body)
  const { things, claims } = await claimed(engine)
  const clusters = new Set(things.filter(({ kind }) => kind === 'namespace').map(({ path }) => path))
  const selection = select(rules, things)
  const shared = selection.taken.flatMap((thing) => {
    const others = (claims.get(thing.path) ?? []).filter((claim) => claim.slug !== vessel)
    return others.length > 0 ? [{ path: thing.path, vessel: others[0]!.vessel }] : []
  })
  const summary = summarize(selection, than ? select(than, things) : undefined)
  return {
    ...summary,
    clusters: summary.members.filter((member) => clusters.has(member)),
    troubles: Object.fromEntries(rules.map((rule) => [rule.id, patternTrouble(rule) ?? null])),
    shared: shared.slice(0, 50),
    sharedCount: shared.length,
  }
})
