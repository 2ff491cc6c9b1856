import * as v from 'valibot'
import { Access, NewRun, NewStore, Named, text } from '../../core/asked'
import { readRef } from '../../core/chain/moment-ref'
import { positionOf } from '../../core/chain/position'
import { READERS } from '../../core/plan/definition'
import { isZone } from '../../core/time/zone'
import { RUN_KINDS } from '../../engine/catalog/types'
import { OPS } from '../../core/look/filter'
import { clusterWishOf, READY_WITHIN, type ClusterWish } from '../../core/cluster/wish'
import { KEEP_DAYS, SCRATCH_HOURS } from '../../core/restore/wish'
import { RetentionSchema, ScheduleSchema } from './schedule-schemas'

// The forms of what comes in. What a value means (a pattern, a path) is judged by core and the engine.

const Milliseconds = v.nullable(
  v.pipe(v.number(), v.integer(), v.minValue(1000, 'A promise is a second at least.'), v.maxValue(10 * 366 * 86_400_000)),
)

export const Rules = v.pipe(
  v.array(
    v.strictObject({
      id: text(80),
      act: v.picklist(['take', 'leave']),
      kind: v.picklist(['database', 'schema', 'thing', 'namespace', 'object', 'volume']),
      pattern: text(500),
      labels: v.optional(text(500)),
    }),
  ),
  v.maxLength(500, 'A definition may have 500 rules at most.'),
)

export const LogPlanSchema = v.strictObject({
  follow: v.boolean(),
  everySeconds: v.pipe(v.number(), v.integer()),
  segmentBytes: v.pipe(v.number(), v.integer()),
  keepAtMost: v.pipe(v.number(), v.integer()),
  structure: v.picklist(['trigger', 'compare']),
  audit: v.optional(
    v.strictObject({ megabytesPerSecond: v.number(), hours: v.nullable(v.strictObject({ from: v.number(), to: v.number() })) }),
  ),
})

const ActSchema = v.variant('kind', [
  v.strictObject({ kind: v.literal('sql'), statement: text(20_000) }),
  v.strictObject({
    kind: v.literal('exec'),
    selector: text(500),
    container: text(63),
    pods: v.picklist(['one', 'all', 'passive']),
    active: text(500),
    command: v.pipe(v.array(text(4000)), v.maxLength(100)),
  }),
  v.strictObject({ kind: v.literal('http'), method: v.picklist(['GET', 'POST', 'PUT', 'DELETE']), url: text(2000), body: text(20_000) }),
  v.strictObject({ kind: v.literal('program'), program: text(255), arguments: v.pipe(v.array(text(4000)), v.maxLength(100)) }),
  v.strictObject({
    kind: v.literal('scale'),
    workload: v.picklist(['Deployment', 'StatefulSet']),
    name: text(253),
    replicas: v.pipe(v.number(), v.integer(), v.minValue(0)),
  }),
])

/** What makes sense of it is judged by core. */
export const QuiesceSchema = v.strictObject({
  steps: v.pipe(
    v.array(
      v.strictObject({
        id: text(80),
        name: text(80),
        member: text(600),
        turn: v.pipe(v.number(), v.integer(), v.minValue(0)),
        act: ActSchema,
        limitMs: v.number(),
        onFailure: v.picklist(['stop', 'go on']),
        release: v.nullable(ActSchema),
        prepares: v.optional(v.boolean()),
      }),
    ),
    v.maxLength(100, 'A sequence has at most 100 steps.'),
  ),
  budgetMs: v.number(),
  reads: v.optional(v.array(v.strictObject({ volume: text(1000), folder: text(4000) }))),
})

/** Of one run; everything only where that is said. */
export const ReleaseNow = v.pipe(
  v.strictObject({ run: v.optional(v.pipe(v.string(), v.uuid())), all: v.optional(v.literal(true)) }),
  v.check(({ run, all }) => (run === undefined) === (all === true), 'It says of which run, or that all is to be released.'),
)

export const Definition = v.strictObject({
  rules: Rules,
  store: text(80),
  promises: v.strictObject({ couldLose: Milliseconds, backWithin: Milliseconds }),
  readers: v.pipe(v.number(), v.integer(), v.minValue(READERS.min), v.maxValue(READERS.max)),
  log: v.optional(LogPlanSchema),
  quiesce: v.optional(QuiesceSchema),
  partly: v.optional(v.picklist(['keep', 'fail'])),
  schedule: v.optional(ScheduleSchema),
  retention: v.optional(RetentionSchema),
})

/** How a source is to be reached from now on, and whether it may be another one that takes its place. */
export const ChangedAccess = v.strictObject({ ...Access.entries, replaces: v.optional(v.boolean(), false) })

const Collision = v.picklist(['replace', 'rename', 'merge', 'skip'])
const name = v.pipe(text(63), v.nonEmpty('A name is empty.'))
const whole = (min: number, max: number, what: string) =>
  v.pipe(v.number(), v.integer(), v.minValue(min, `${what} at least ${min}.`), v.maxValue(max, `${what} at most ${max}.`))
const PICKED_ROWS = 10_000

const Into = v.variant('mode', [
  v.strictObject({ mode: v.literal('original') }),
  v.strictObject({
    mode: v.literal('beside'),
    schema: v.nullable(name),
    prefix: v.optional(text(40), ''),
    suffix: v.optional(text(40), ''),
    names: v.record(v.string(), name),
  }),
  v.strictObject({ mode: v.literal('elsewhere'), source: text(63), database: name }),
  v.strictObject({
    mode: v.literal('scratch'),
    source: text(63),
    hours: whole(SCRATCH_HOURS.min, SCRATCH_HOURS.max, 'A scratch copy lives, in hours,'),
  }),
])

const PatchSchema = v.array(
  v.strictObject({
    op: v.picklist(['add', 'remove', 'replace', 'move', 'copy', 'test']),
    path: text(1000),
    from: v.optional(text(1000)),
    value: v.optional(v.any()),
  }),
)

/** How namespaces come back. What fits together is judged by the plan. */
const ClusterWishSchema = v.partial(
  v.strictObject({
    source: v.nullable(text(63)),
    namespaces: v.record(
      text(63),
      v.pipe(text(63), v.regex(/^[a-z0-9]([a-z0-9-]*[a-z0-9])?$/, 'A namespace’s name has small letters, digits and “-”.')),
    ),
    classes: v.record(text(253), text(253)),
    prefix: v.pipe(text(40), v.regex(/^[a-z0-9-]*$/, 'A prefix has small letters, digits and “-”.')),
    suffix: v.pipe(text(40), v.regex(/^[a-z0-9-]*$/, 'A suffix has small letters, digits and “-”.')),
    labels: v.record(text(317), v.nullable(text(63))),
    registries: v.record(text(500), text(500)),
    changes: v.pipe(v.array(v.strictObject({ kind: text(63), name: text(253), patch: PatchSchema })), v.maxLength(100)),
    exposure: v.nullable(v.picklist(['keep', 'leave', 'unplug'])),
    atRest: v.boolean(),
    secrets: v.boolean(),
    files: v.record(text(2000), v.pipe(v.array(text(4000)), v.maxLength(10_000))),
    after: v.pipe(
      v.array(v.strictObject({ name: text(80), act: ActSchema, limitMs: whole(100, 3_600_000, 'A step has, in milliseconds,') })),
      v.maxLength(20),
    ),
    readyWithinMs: whole(READY_WITHIN.min, READY_WITHIN.max, 'Workloads have, in milliseconds,'),
  }),
)

export const WishSchema = v.strictObject({
  picks: v.pipe(v.array(text(2000)), v.maxLength(10_000)),
  into: Into,
  what: v.optional(v.picklist(['both', 'structure', 'rows']), 'both'),
  collide: v.optional(Collision, 'replace'),
  each: v.optional(v.record(v.string(), Collision), {}),
  along: v.optional(v.boolean(), true),
  without: v.optional(v.array(text(2000)), []),
  roles: v.optional(v.record(text(63), name), {}),
  makeRoles: v.optional(v.boolean(), false),
  rows: v.optional(
    v.record(
      v.string(),
      v.strictObject({
        keys: v.pipe(v.array(v.array(v.string())), v.maxLength(PICKED_ROWS, `At most ${PICKED_ROWS} rows can be picked.`)),
        overwrite: v.nullable(v.array(name)),
      }),
    ),
    {},
  ),
  cluster: v.optional(
    v.pipe(
      ClusterWishSchema,
      v.transform((given) => clusterWishOf(given as Partial<ClusterWish>)),
    ),
    {},
  ),
  keepDays: v.optional(whole(KEEP_DAYS.min, KEEP_DAYS.max, 'What is overwritten is kept, in days,'), KEEP_DAYS.default),
})

export const Restore = v.strictObject({
  wish: WishSchema,
  reason: v.optional(v.nullable(text(500)), null),
  rehearsal: v.boolean(),
  /** The digest of the plan that was looked at. */
  agreed: v.optional(v.nullable(text(64)), null),
  /** The saved restore that it began as. */
  saved: v.optional(v.nullable(v.pipe(v.string(), v.uuid())), null),
  /** That an incomplete point is taken as it is. */
  asItIs: v.optional(v.boolean(), false),
})

/** A loss, by its key. */
export const Meant = v.strictObject({ key: text(40_000) })

export { NewRun, NewStore }

const Begins = v.variant('which', [
  v.strictObject({ which: v.picklist(['newest good', 'newest']) }),
  v.strictObject({ which: v.literal('named'), point: v.pipe(v.string(), v.uuid()) }),
])
export const SaveRestore = v.strictObject({
  ...Named.entries,
  wish: WishSchema,
  reason: v.optional(v.nullable(text(500)), null),
  begins: v.optional(Begins, { which: 'newest good' }),
})
export const ChoiceSchema = v.variant('of', [
  v.strictObject({ of: v.literal('restore'), wish: WishSchema }),
  v.strictObject({ of: v.literal('files'), files: v.pipe(v.array(text(4096)), v.minLength(1), v.maxLength(10_000)) }),
])

const Position = v.pipe(
  v.string(),
  v.check((position) => positionOf(position) !== undefined, 'This is no position of a log.'),
)
/** A transaction by where it lies in the log of a member. */
export const Transaction = v.strictObject({ member: text(200), position: Position, end: Position })
export const Undo = v.strictObject({
  transaction: Transaction,
  choices: v.optional(v.record(v.string(), v.record(v.string(), v.picklist(['undo', 'leave']))), {}),
  reason: v.optional(text(500), ''),
})

/** A point by its id, or any moment by its reference. */
export const PointId = v.pipe(
  v.string(),
  v.check((id) => readRef(id) !== undefined || v.is(v.pipe(v.string(), v.uuid()), id), 'This is not an id.'),
)
export const Id = v.pipe(v.string(), v.uuid('This is not an id.'))
export const Whole = v.pipe(v.string(), v.regex(/^\d{1,12}$/, 'This is no whole number.'), v.transform(Number))
export const Moment = v.pipe(
  v.string(),
  v.isoTimestamp('This is no moment.'),
  v.transform((iso) => new Date(iso)),
)

/** A row by its chunk and its position in it, as in `12.3400`. */
export const Place = v.pipe(
  v.string(),
  v.regex(/^\d{1,9}\.\d{1,9}$/, 'This is no place of a row.'),
  v.transform((place) => {
    const [chunk, row] = place.split('.').map(Number)
    return { chunk: chunk!, row: row! }
  }),
)

const json = (what: string) =>
  v.rawTransform<string, unknown>(({ dataset, addIssue, NEVER }) => {
    try {
      return JSON.parse(dataset.value) as unknown
    } catch {
      addIssue({ message: `${what} is no JSON.` })
      return NEVER
    }
  })

export const Conditions = v.pipe(
  v.string(),
  json('The filter'),
  v.pipe(v.array(v.strictObject({ column: text(63), op: v.picklist(OPS), value: text(10_000) })), v.maxLength(20)),
)

export const Keys = v.pipe(v.string(), json('The list of keys'), v.pipe(v.array(v.array(v.string())), v.maxLength(PICKED_ROWS)))

/** Why, and until when: a pause, or a pin. */
export const UntilMoment = { until: v.optional(v.nullable(Moment), null) }

export const KindsOfRuns = v.optional(
  v.pipe(
    v.string(),
    v.transform((text) => text.split(',').filter(Boolean)),
    v.array(v.picklist(RUN_KINDS)),
  ),
  '',
)
const COUNTED_MS = 400 * 86_400_000

/** Which runs are counted day by day, by the calendar of a zone. */
export const CountedRunsQuery = v.pipe(
  v.object({
    zone: v.pipe(v.string(), v.check(isZone, 'This is no zone.')),
    since: Moment,
    until: Moment,
    vessel: v.optional(v.string()),
    kinds: KindsOfRuns,
  }),
  v.check(({ since, until }) => until.getTime() - since.getTime() <= COUNTED_MS, 'It is more than a year.'),
)
