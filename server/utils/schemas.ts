import * as v from 'valibot'
import { READERS } from '../../core/plan/definition'

// The forms of what comes in. What a value means (a pattern, a path) is judged by core and the engine.

const text = (max: number) => v.pipe(v.string(), v.maxLength(max, `It may have ${max} characters at most.`))
const Milliseconds = v.nullable(
  v.pipe(v.number(), v.integer(), v.minValue(1000, 'A promise is a second at least.'), v.maxValue(10 * 366 * 86_400_000)),
)

export const Rules = v.pipe(
  v.array(
    v.object({ id: text(80), act: v.picklist(['take', 'leave']), kind: v.picklist(['database', 'schema', 'thing']), pattern: text(500) }),
  ),
  v.maxLength(500, 'A definition may have 500 rules at most.'),
)

export const Definition = v.object({
  rules: Rules,
  store: text(80),
  promises: v.object({ couldLose: Milliseconds, backWithin: Milliseconds }),
  readers: v.pipe(v.number(), v.integer(), v.minValue(READERS.min), v.maxValue(READERS.max)),
})

export const Settings = v.object({
  host: v.pipe(text(255), v.nonEmpty('The address is missing.')),
  port: v.pipe(v.number(), v.integer(), v.minValue(1, 'A port is 1 to 65535.'), v.maxValue(65535, 'A port is 1 to 65535.')),
  user: v.pipe(text(63), v.nonEmpty('The user is missing.')),
  database: v.pipe(text(63), v.nonEmpty('The database is missing.')),
  tls: v.picklist(['off', 'required', 'verified']),
  authority: v.optional(text(100_000)),
})

/** A source comes with its settings, or with a connection string. */
export const NewSource = v.object({
  name: v.optional(text(63), ''),
  settings: v.optional(Settings),
  password: v.optional(text(1000), ''),
  connection: v.optional(text(2000)),
})

const Collision = v.picklist(['replace', 'rename', 'skip'])

export const WishSchema = v.object({
  picks: v.pipe(v.array(text(2000)), v.maxLength(10_000)),
  into: v.variant('mode', [
    v.object({ mode: v.literal('original') }),
    v.object({
      mode: v.literal('beside'),
      schema: v.nullable(text(63)),
      names: v.record(v.string(), v.pipe(text(63), v.nonEmpty('A name is empty.'))),
    }),
  ]),
  collide: Collision,
  each: v.record(v.string(), Collision),
})

export const Restore = v.object({ wish: WishSchema, reason: v.optional(v.nullable(text(500)), null), rehearsal: v.boolean() })

export const NewRun = v.object({
  kind: v.optional(v.picklist(['backup', 'verify']), 'backup'),
  name: v.optional(v.nullable(text(120)), null),
  comment: v.optional(v.nullable(text(2000)), null),
})

export const NewStore = v.object({ name: text(80), path: text(1000), key: v.optional(text(200)) })
