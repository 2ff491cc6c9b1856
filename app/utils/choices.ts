import { SCRATCH_HOURS, wishOf, type Into, type Wish } from '~~/core/restore/wish'

/** What a person chooses for a restore, apart from what is picked; what another choice hides is kept. */
export interface Choices extends Omit<Wish, 'picks' | 'into'> {
  mode: Into['mode']
  beside: { schema: string | null; prefix: string; suffix: string; names: Record<string, string> }
  elsewhere: { source: string; database: string }
  scratch: { source: string; hours: number }
}

/** What is chosen before anybody chose. */
export function usualChoices(): Choices {
  const { picks: _, into, ...usual } = wishOf({})
  return {
    ...usual,
    mode: into.mode,
    beside: { schema: null, prefix: '', suffix: '', names: {} },
    elsewhere: { source: '', database: '' },
    scratch: { source: '', hours: SCRATCH_HOURS.default },
  }
}

/** Puts other choices in the place of some. Whoever shows a part of them goes on showing the same part. */
export function putChoices(choices: Choices, { cluster, ...rest }: Partial<Choices>): void {
  Object.assign(choices, rest)
  if (cluster) Object.assign(choices.cluster, cluster)
}

/** What an earlier wish chose. */
export function choicesOf({ picks: _, into, ...rest }: Wish): Partial<Choices> {
  if (into.mode === 'original') return { ...rest, mode: into.mode }
  const { mode, ...where } = into
  const usual = usualChoices()[mode]
  return { ...rest, mode, [mode]: { ...usual, ...where } }
}

function intoOf({ mode, beside, elsewhere, scratch }: Choices): Into | null {
  if (mode === 'original') return { mode }
  if (mode === 'beside') return { mode, ...beside }
  if (mode === 'scratch') return { mode, ...scratch }
  return elsewhere.database.trim() === '' ? null : { mode, source: elsewhere.source, database: elsewhere.database.trim() }
}

/** What is wished; null while that is not all said. Later choices don't change it. */
export function wishFrom(choices: Choices, picks: string[]): Wish | null {
  const into = intoOf(choices)
  if (!into || (picks.length === 0 && Object.keys(choices.cluster.files).length === 0)) return null
  const { what, collide, each, along, without, roles, makeRoles, keepDays, cluster } = choices
  const rows = into.mode === 'beside' ? {} : choices.rows
  const wish = wishOf({ picks, into, what, collide, each, along, without, roles, makeRoles, rows, keepDays, cluster })
  return JSON.parse(JSON.stringify(wish)) as Wish
}
