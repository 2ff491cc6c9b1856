import type { Standing } from '~~/server/views'

const ORDER: Record<Standing['state'], number> = { broken: 0, 'at risk': 1, whole: 2, paused: 3 }

/** Vessels as lists show them: what needs somebody stands on top, the rest by their names. */
export const worstFirst = (vessels: Standing[]): Standing[] =>
  [...vessels].sort((a, b) => ORDER[a.state] - ORDER[b.state] || a.name.localeCompare(b.name))
