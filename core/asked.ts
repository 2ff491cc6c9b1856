import * as v from 'valibot'

// What forms and routes both ask for: the forms tell beside each field what the routes would refuse.

export const text = (most: number) => v.pipe(v.string(), v.maxLength(most, `It may have ${most} characters at most.`))
const needed = (most: number, why: string) =>
  v.pipe(
    text(most),
    v.check((written) => written.trim() !== '', why),
  )

export const NewRun = v.strictObject({
  kind: v.optional(v.picklist(['backup', 'verify', 'audit', 'reindex']), 'backup'),
  what: v.optional(v.picklist(['full', 'differential', 'incremental', 'synthetic']), 'full'),
  name: v.optional(
    v.pipe(
      v.nullable(text(120)),
      v.transform((name) => name?.trim() || null),
    ),
    null,
  ),
  comment: v.optional(v.nullable(text(2000)), null),
})

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
