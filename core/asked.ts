import * as v from 'valibot'
import { RETENTION } from './plan/retention'
import { NAME_LENGTH, nameTrouble } from './things/name'

// What forms and routes both ask for: the forms tell beside each field what the routes would refuse.

export const text = (most: number) => v.pipe(v.string(), v.maxLength(most, `It may have ${most} characters at most.`))
const needed = (most: number, why: string) =>
  v.pipe(
    text(most),
    v.check((written) => written.trim() !== '', why),
  )

export const NewRun = v.strictObject({
  kind: v.optional(v.picklist(['backup', 'audit']), 'backup'),
  what: v.optional(v.picklist(['full', 'differential', 'incremental', 'synthetic']), 'full'),
  name: v.optional(
    v.pipe(
      v.nullable(text(120)),
      v.transform((name) => name?.trim() || null),
    ),
    null,
  ),
  comment: v.optional(v.nullable(text(2000)), null),
  /** For how many days its point stays, null until somebody deletes it; where nothing is said, as the vessel's definition has it. */
  keepDays: v.optional(
    v.nullable(
      v.pipe(
        v.number(),
        v.integer(),
        v.minValue(RETENTION.days.min, 'A day at least.'),
        v.maxValue(RETENTION.days.max, 'A hundred years at most.'),
      ),
    ),
  ),
})

export const PinForm = v.strictObject({ reason: needed(400, 'Say why it is pinned.') })
export const DeleteForm = v.strictObject({ reason: needed(400, 'Say why it is deleted.') })

/** How many runs may work at a place at once; null: as many as there are. */
export const AtOnce = v.strictObject({
  atOnce: v.nullable(v.pipe(v.number(), v.integer(), v.minValue(1, 'One at least.'), v.maxValue(100, 'A hundred at most.'))),
})

export const PauseForm = v.strictObject({ reason: needed(400, 'Say why it is paused.') })

export const NewStore = v.strictObject({
  name: needed(80, 'Give it a name.'),
  path: needed(1000, 'Say in which folder it shall lie.'),
  key: v.optional(
    v.pipe(
      text(200),
      v.check((key) => key.trim() === '' || /^[0-9a-f]{64}$/i.test(key.trim()), 'A key is 64 hex digits.'),
    ),
  ),
})

const Settings = v.strictObject({
  host: needed(255, 'The address is missing.'),
  port: v.pipe(v.number(), v.integer(), v.minValue(1, 'A port is 1 to 65535.'), v.maxValue(65535, 'A port is 1 to 65535.')),
  user: needed(63, 'The user is missing.'),
  database: needed(63, 'The database is missing.'),
  tls: v.picklist(['off', 'required', 'verified']),
  authority: v.optional(text(100_000)),
})

const Cluster = v.strictObject({
  server: v.pipe(text(500), v.regex(/^https?:\/\/[^/\s]+/, 'The address is an https address, such as https://pier.ferries.example:6443.')),
  token: v.optional(text(20_000), ''),
  authority: v.optional(text(100_000), ''),
  unverified: v.optional(v.boolean()),
})

/**
 * A PostgreSQL server comes with its settings, or with a connection string; a cluster with its address and a token,
 * or with a kubeconfig.
 */
export const Access = v.strictObject({
  settings: v.optional(Settings),
  password: v.optional(text(1000), ''),
  connection: v.optional(needed(2000, 'The connection string is missing.')),
  cluster: v.optional(Cluster),
  kubeconfig: v.optional(needed(200_000, 'The kubeconfig is missing.')),
  context: v.optional(text(300)),
  readerImage: v.optional(v.pipe(text(300), v.regex(/^\S*$/, 'The name of an image has no blanks.'))),
})

/** A source that is tried; it needs no name yet. */
export const TriedSource = v.strictObject({ name: v.optional(text(63), ''), ...Access.entries })

/** What stands at the beginning of every path of a source, so that none of it may be read otherwise. */
export const SOURCE_NAME = /^[^\s/*?][^/*?]{0,62}$/
export const NewSource = v.pipe(
  v.strictObject({
    name: v.pipe(
      needed(63, 'Give it a name.'),
      v.check((name) => name.trim() === '' || SOURCE_NAME.test(name), 'A name has no slashes and no wildcards, and begins with no blank.'),
    ),
    ...Access.entries,
  }),
  v.forward(
    v.partialCheck([['cluster']], ({ cluster }) => !cluster || (cluster.token ?? '').trim() !== '', 'The token is missing.'),
    ['cluster', 'token'],
  ),
)

/** Why something is done, for its receipt. */
export const Reason = v.strictObject({ reason: v.optional(v.nullable(text(500)), null) })

/** The name by which a vessel, or a restore that is kept, is found again. */
export const Named = v.strictObject({
  name: v.pipe(
    v.string(),
    v.rawCheck(({ dataset, addIssue }) => {
      const trouble = dataset.typed ? nameTrouble(dataset.value, NAME_LENGTH) : null
      if (trouble) addIssue({ message: trouble })
    }),
  ),
})
