// Words that several places share.
import { agoInWords, bytesInWords, capital, countInWords, durationInWords, numberInWords, plural } from '~~/core/time/words'
import type { RunRow } from '~~/server/views'

export { agoInWords, bytesInWords, capital, countInWords, durationInWords, numberInWords, plural }

export const STATE_COLOR = { whole: 'var(--glaze)', hairline: 'var(--ochre)', broken: 'var(--iron)', paused: 'var(--soft)' } as const

export const RUN_KIND = { backup: 'Backup', restore: 'Bring back', rehearsal: 'Rehearsal', verify: 'Verification' } as const

export const RUN_STATE = {
  waiting: { word: 'waiting', color: 'var(--soft)', icon: 'i-lucide-hourglass' },
  running: { word: 'running', color: 'var(--ink)', icon: 'i-lucide-loader' },
  done: { word: 'done', color: 'var(--glaze)', icon: 'i-lucide-check' },
  warned: { word: 'done, with warnings', color: 'var(--ochre-text)', icon: 'i-lucide-triangle-alert' },
  failed: { word: 'failed', color: 'var(--iron)', icon: 'i-lucide-x' },
  cancelled: { word: 'cancelled', color: 'var(--soft)', icon: 'i-lucide-ban' },
  skipped: { word: 'skipped', color: 'var(--soft)', icon: 'i-lucide-minus' },
} as const

export const CONSISTENCY: Record<string, string> = {
  'held together': 'Application-consistent: all members in one hold.',
  'each sound': 'Every member is consistent in itself, they were not held together.',
  'as found': 'Crash-consistent: copied as it was found.',
}

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
  'foreign-table': 'i-lucide-cable',
}

export function took(run: Pick<RunRow, 'startedAt' | 'finishedAt'>, now = Date.now()): string {
  if (!run.startedAt) return ''
  return durationInWords((run.finishedAt ? Date.parse(run.finishedAt) : now) - Date.parse(run.startedAt))
}
