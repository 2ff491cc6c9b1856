import * as v from 'valibot'
import { text } from '../../core/asked'
import { CALENDAR_UNITS } from '../../core/plan/retention'

// The form of a plan as it comes in; whether its times make sense is judged by core.

const count = v.pipe(v.number(), v.integer())

const Days = v.variant('of', [
  v.strictObject({ of: v.literal('every day') }),
  v.strictObject({ of: v.literal('week'), days: v.pipe(v.array(count), v.maxLength(7)) }),
  v.strictObject({ of: v.literal('month'), day: count }),
  v.strictObject({ of: v.literal('weekday of month'), which: v.picklist([1, 2, 3, 4, 'last']), weekday: count }),
])

const Times = v.variant('kind', [
  v.strictObject({ kind: v.literal('every'), count, unit: v.picklist(['minutes', 'hours']) }),
  v.strictObject({ kind: v.literal('days'), at: v.pipe(v.array(text(5)), v.maxLength(100)), on: Days }),
  v.strictObject({ kind: v.literal('cron'), expression: text(200) }),
])

const Makes = v.variant('kind', [
  v.strictObject({ kind: v.literal('each'), what: v.picklist(['full', 'differential', 'incremental', 'synthetic']) }),
  v.strictObject({
    kind: v.literal('cycle'),
    points: count,
    first: v.picklist(['full', 'synthetic']),
    rest: v.picklist(['differential', 'incremental']),
  }),
])

export const ScheduleSchema = v.strictObject({
  zone: text(80),
  from: text(40),
  lines: v.pipe(
    v.array(
      v.strictObject({
        id: text(80),
        name: text(80),
        times: Times,
        makes: Makes,
        window: v.optional(v.strictObject({ minutes: count, spread: v.boolean(), close: v.picklist(['finish', 'stop']) })),
      }),
    ),
    v.maxLength(100),
  ),
  meanwhile: v.picklist(['wait', 'leave out']),
})

const KeepRule = v.variant('kind', [
  v.strictObject({ kind: v.literal('last'), points: count }),
  v.strictObject({ kind: v.literal('all'), count, unit: v.picklist(['hours', 'days']) }),
  v.strictObject({ kind: v.literal('calendar'), each: v.picklist(CALENDAR_UNITS), count }),
])

export const RetentionSchema = v.strictObject({
  rules: v.pipe(v.array(KeepRule), v.maxLength(100)),
  atLeast: count,
  logHours: count,
  byHandDays: v.nullable(count),
  gone: v.strictObject({ automaticDays: count, byHandDays: count }),
})
