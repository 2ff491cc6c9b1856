// Words that several places share.
import { agoInWords, bytesInWords, capital, countInWords, durationInWords, listInWords, numberInWords, plural } from '~~/core/time/words'
import { sortMissing } from '~~/core/content/missing'
import type { Missing } from '~~/core/content/manifest'
import type { VesselDepartureView } from '~~/server/views'
import { dateOf, whenOf } from './when'
import { CONSISTENCY } from '~~/core/quiesce/consistency'
import type { RunRow } from '~~/server/views'

export { agoInWords, bytesInWords, capital, countInWords, durationInWords, listInWords, numberInWords, plural }
export { CONSISTENCY }

export const STATE_COLOR = { whole: 'var(--glaze)', 'at risk': 'var(--warning)', broken: 'var(--error)', paused: 'var(--soft)' } as const

/** Colours of the same, where they are text. */
export const STATE_TEXT = { ...STATE_COLOR, 'at risk': 'var(--warning-text)' } as const
export const STATE_WHY = {
  whole: 'Within its promises.',
  'at risk': 'It can be restored, but a promise is at risk.',
  broken: 'It can’t be restored within its promises.',
  paused: 'On purpose not backed up.',
} as const
export const MENDED_WHY =
  'What was restored of it in the last days was read back; all that was compared is equal to its point. The receipt says what that was.'
/** What a point lacks, in few words and in a sentence. */
export const LACKS = {
  'only at the source': 'Some of its data is only in a snapshot at its source, and not in the store yet.',
  partial: 'Some of what was to be taken is not in it.',
} as const
export function lackInWords({ missing, complete }: { missing: Missing[]; complete: boolean }): keyof typeof LACKS | null {
  if (sortMissing(missing).atSource.length > 0) return 'only at the source'
  return complete ? null : 'partial'
}

export const RUN_KIND = {
  backup: 'Backup',
  restore: 'Restore',
  rehearsal: 'Rehearsal',
  verify: 'Verification',
  undo: 'Undo',
  hold: 'Rehearsed hold',
  fetch: 'Fetch',
  audit: 'Audit of the log',
  reindex: 'Rebuilt index',
  prune: 'Prune',
} as const

/** What a prune let go, or would: `3 points, 12 segments of log, 4.1 MB`. */
export function prunedInWords({ points = 0, segments = 0, freed = 0 }: { points?: unknown; segments?: unknown; freed?: unknown }): string {
  const counted = (count: unknown, text: (count: number) => string) => (Number(count) > 0 ? [text(Number(count))] : [])
  const parts = [
    ...counted(points, (count) => plural(count, 'point')),
    ...counted(segments, (count) => `${plural(count, 'segment')} of log`),
    ...counted(freed, bytesInWords),
  ]
  return parts.length > 0 ? parts.join(', ') : 'nothing'
}

/** `An undo`, `A backup`: as a sentence begins. */
export const withArticle = (word: string): string => `${/^[aeiou]/i.test(word) ? 'An' : 'A'} ${word.toLowerCase()}`

/** What a run does, and what it makes where that is more than one word for all: `Backup, differential`. */
export const kindOfRun = ({ kind, makes }: Pick<RunRow, 'kind' | 'makes'>): string =>
  makes === null || makes === 'full' ? RUN_KIND[kind] : `${RUN_KIND[kind]}, ${ARTIFACT_WORD[makes]}`

/** By whom it was begun; of a plan, with its place there: `the plan: nightly, 3 of 7`. */
export const starterOf = ({ startedBy, planned }: Pick<RunRow, 'startedBy' | 'planned'>): string =>
  planned === null ? startedBy : `${startedBy}: ${planned.line}${planned.of > 1 ? `, ${planned.place} of ${planned.of}` : ''}`

export const RUN_STATE = {
  waiting: { word: 'waiting', color: 'var(--soft)', icon: 'i-lucide-hourglass' },
  running: { word: 'running', color: 'var(--ink)', icon: 'i-lucide-loader' },
  done: { word: 'done', color: 'var(--glaze)', icon: 'i-lucide-check' },
  warned: { word: 'done, with warnings', color: 'var(--warning-text)', icon: 'i-lucide-triangle-alert' },
  failed: { word: 'failed', color: 'var(--error)', icon: 'i-lucide-x' },
  cancelled: { word: 'cancelled', color: 'var(--soft)', icon: 'i-lucide-ban' },
  skipped: { word: 'skipped', color: 'var(--soft)', icon: 'i-lucide-minus' },
} as const

export const KIND_ICON: Record<string, string> = {
  server: 'i-lucide-server',
  database: 'i-lucide-database',
  schema: 'i-lucide-folder',
  table: 'i-lucide-table-2',
  partition: 'i-lucide-table-2',
  'materialized-view': 'i-lucide-layers',
  view: 'i-lucide-eye',
  sequence: 'i-lucide-list-ordered',
  function: 'i-lucide-parentheses',
  type: 'i-lucide-shapes',
  extension: 'i-lucide-puzzle',
  'large-objects': 'i-lucide-file-stack',
  volume: 'i-lucide-hard-drive',
  ConfigMap: 'i-lucide-file-text',
  Secret: 'i-lucide-key-round',
  Deployment: 'i-lucide-box',
  StatefulSet: 'i-lucide-box',
  'foreign-table': 'i-lucide-cable',
}

export function took(run: Pick<RunRow, 'startedAt' | 'finishedAt'>, now = Date.now()): string {
  if (!run.startedAt) return ''
  return durationInWords((run.finishedAt ? Date.parse(run.finishedAt) : now) - Date.parse(run.startedAt))
}

type Tallied = readonly [inserted: number, updated: number, deleted: number, emptied: number] | readonly number[]

/** `1,843 rows deleted`, `20 rows inserted, 3 updated`, `emptied`. */
export function talliedInWords([inserted = 0, updated = 0, deleted = 0, emptied = 0]: Tallied): string {
  const parts = [
    [deleted, 'deleted'],
    [inserted, 'inserted'],
    [updated, 'updated'],
  ].filter(([rows]) => Number(rows) > 0) as [number, string][]
  const words = parts.map(([rows, what], i) => (i === 0 ? `${plural(rows, 'row')} ${what}` : `${countInWords(rows)} ${what}`))
  return [...(emptied > 0 ? ['emptied'] : []), ...words].join(', ')
}

/** What went weighs more than what came. */
export const weightOf = ([inserted = 0, updated = 0, deleted = 0, emptied = 0]: Tallied): number =>
  inserted + 2 * updated + 6 * deleted + 5000 * emptied

export const ARTIFACT_WORD = {
  full: 'full',
  differential: 'differential',
  incremental: 'incremental',
  synthetic: 'synthetic full',
  log: 'log',
} as const

/** `a, b and more`: so many of all. */
export const someInWords = (all: string[], most: number): string =>
  all.length > most ? `${all.slice(0, most).join(', ')} and more` : listInWords(all)

const STRETCHES_SHOWN = 4

/** Moments that can't be entered any more. */
export const momentsInWords = (lost: { from: string; to: string }[]): string =>
  lost.length === 0
    ? 'no moment of the log'
    : `the moments of ${someInWords(
        lost.map(({ from, to }) => `${whenOf(from)} to ${whenOf(to)}`),
        STRETCHES_SHOWN,
      )}`

/** Until when what is left of a vessel stays that was deleted. */
export function staysInWords({
  points,
  pinned,
  firstGoes,
  lastGoes,
}: Pick<VesselDepartureView, 'points' | 'pinned' | 'firstGoes' | 'lastGoes'>): string {
  if (points === 0) return ''
  const end = lastGoes
    ? firstGoes === lastGoes
      ? `${points === 1 ? 'It goes' : 'All go'} on ${dateOf(lastGoes)}`
      : `The last goes on ${dateOf(lastGoes)}`
    : 'The last one has no end'
  const first = firstGoes && firstGoes !== lastGoes ? `The first goes on ${dateOf(firstGoes)}. ` : ''
  return `${first}${end}${pinned > 0 ? `; ${pinned} ${pinned === 1 ? 'is' : 'are'} pinned` : ''}.`
}
