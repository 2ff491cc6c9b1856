import * as v from 'valibot'
import { VesselError } from '../../core/errors'
import type { QuiesceSequence } from '../../core/quiesce/sequence'
import type { RunKind } from '../catalog/types'
import type { Vessel } from '../catalog/vessels'
import { audit } from './audit'
import { backup } from './backup'
import { readLeft } from './clusters/fetch'
import type { RunContext } from './context'
import { rehearseHold } from './rehearse-hold'
import { prune } from './prune'
import { reindex } from './reindex'
import { restore, type RestoreParams } from './restore'
import { undo, type UndoParams } from './undo'
import { verify } from './verify'

/** A run that has begun, with the name of the store that it reads or writes. */
export interface Begun {
  run: RunContext
  vessel: Vessel
  name: string | null
  comment: string | null
  store: string
}

// What a run was told stands in the catalog, perhaps since an earlier version: of all that decides what is done to data,
// it is checked that it is there, before anything is. What else there is, each kind completes itself.
const Part = v.looseObject({ point: v.string(), wish: v.looseObject({}), together: v.optional(v.array(v.string())) })
const Restored = v.looseObject({
  ...Part.entries,
  agreed: v.optional(v.nullable(v.string())),
  more: v.optional(v.array(Part)),
  unmakes: v.optional(v.array(v.string())),
})
const Undone = v.looseObject({
  transaction: v.looseObject({ member: v.string(), position: v.string(), end: v.string() }),
  choices: v.record(v.string(), v.record(v.string(), v.picklist(['undo', 'leave']))),
})
const Audited = v.looseObject({ tables: v.optional(v.record(v.string(), v.array(v.number()))) })
const BackedUp = v.looseObject({
  what: v.optional(v.picklist(['full', 'differential', 'incremental', 'synthetic']), 'full'),
  plan: v.optional(v.looseObject({ line: v.string(), name: v.string(), dueAt: v.string(), place: v.number(), of: v.number() })),
  keepDays: v.optional(v.nullable(v.number())),
  automatic: v.optional(v.boolean()),
})
const Pruned = v.looseObject({ dry: v.optional(v.boolean(), false) })
const Held = v.looseObject({
  quiesce: v.custom<QuiesceSequence>((given) => v.is(v.looseObject({ steps: v.array(v.any()), budgetMs: v.number() }), given)),
})

const unreadable = (what: string) =>
  new VesselError('params_unreadable', {
    what: `What this run was told can’t be read: ${what}.`,
    touched: 'Nothing was begun.',
    next: 'Begin it anew from its page: it was written by another version.',
  })

/** What one kind of run does with what it was told. */
const kind =
  <T>(schema: v.GenericSchema<unknown, T>, perform: (begun: Begun, params: T) => Promise<void>) =>
  async (begun: Begun, params: unknown): Promise<void> => {
    const { success, output, issues } = v.safeParse(schema, params)
    if (!success) throw unreadable(`${v.getDotPath(issues[0]) ?? 'it'}: ${issues[0].message}`)
    await perform(begun, output)
  }
const anything = v.looseObject({})

/**
 * What each kind of run does, and what has to be known of what it was told.
 *
 * @throws {VesselError} `params_unreadable` before anything was begun, and whatever the kind itself throws
 */
export const RUNS: Record<RunKind, (begun: Begun, params: unknown) => Promise<void>> = {
  backup: kind(BackedUp, ({ run, vessel, name, comment }, { what, ...stay }) => backup(run, vessel, { name, comment }, what, stay)),
  restore: kind(Restored, ({ run, vessel }, params) => restore(run, vessel, params as unknown as RestoreParams, false)),
  rehearsal: kind(Restored, ({ run, vessel }, params) => restore(run, vessel, params as unknown as RestoreParams, true)),
  verify: kind(anything, ({ run, store }) => verify(run, store)),
  undo: kind(Undone, ({ run, vessel }, params) => undo(run, vessel, params as unknown as UndoParams)),
  hold: kind(Held, ({ run }, { quiesce }) => rehearseHold(run, { quiesce })),
  fetch: kind(v.looseObject({ point: v.string() }), ({ run, vessel }, params) => readLeft(run, vessel, params)),
  audit: kind(Audited, ({ run, vessel }, params) => audit(run, vessel, params)),
  reindex: kind(anything, ({ run, store }) => reindex(run, store)),
  prune: kind(Pruned, ({ run, store }, params) => prune(run, store, params)),
}
