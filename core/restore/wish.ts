import { clusterWishOf, type ClusterWish } from '../cluster/wish'

/** What is done where something of the same name stands. */
export type Collision = 'replace' | 'rename' | 'merge' | 'skip'

export type Into =
  | { mode: 'original' }
  | { mode: 'beside'; schema: string | null; prefix: string; suffix: string; names: Record<string, string> }
  | { mode: 'elsewhere'; source: string; database: string }
  | { mode: 'scratch'; source: string; hours: number }

/** Single rows of a table, by their keys in canonical text. */
export interface RowPick {
  keys: string[][]
  /** Columns that are overwritten in rows that are there; null: such rows stay as they are. */
  overwrite: string[] | null
}

export interface Wish {
  /** Paths of databases, schemas and things. */
  picks: string[]
  into: Into
  what: 'both' | 'structure' | 'rows'
  collide: Collision
  /** Decisions for single things, by path. */
  each: Record<string, Collision>
  /** Whether what picked things need, and is not at the target, comes along. */
  along: boolean
  /** Paths that do not come along all the same. */
  without: string[]
  /** Roles at the target in place of those of then. */
  roles: Record<string, string>
  /** Whether roles that are missing at the target are made, without a password. */
  makeRoles: boolean
  /** Single rows, by the path of their table. */
  rows: Record<string, RowPick>
  /** How long what is overwritten is kept. */
  keepDays: number
  /** For what comes out of clusters. */
  cluster: ClusterWish
}

export const KEEP_DAYS = { min: 1, max: 366, default: 14 } as const
export const SCRATCH_HOURS = { min: 1, max: 24 * 31, default: 8 } as const

/** A wish with everything that is not said taken as usual; also for wishes of earlier runs. */
export function wishOf(given: Partial<Omit<Wish, 'cluster'>> & { cluster?: Partial<ClusterWish> }): Wish {
  return {
    picks: [],
    what: 'both',
    collide: 'replace',
    each: {},
    along: true,
    without: [],
    roles: {},
    makeRoles: false,
    rows: {},
    keepDays: KEEP_DAYS.default,
    ...given,
    cluster: clusterWishOf(given.cluster),
    into: given.into?.mode === 'beside' ? { ...BESIDE, ...given.into } : (given.into ?? { mode: 'original' }),
  }
}

/** Whether nothing but what is picked was chosen. */
export function isPlain(wish: Wish): boolean {
  const plain = wishOf({ picks: wish.picks })
  return (Object.keys(plain) as (keyof Wish)[]).every((name) => JSON.stringify(plain[name]) === JSON.stringify(wish[name]))
}

const BESIDE = { schema: null, prefix: '', suffix: '', names: {} }

/** Where the things of a database go: to which source, and into which database. */
export function placeOf(into: Into, source: string, database: string, scratchName: string): { source: string; database: string } {
  if (into.mode === 'elsewhere') return { source: into.source || source, database: into.database || database }
  if (into.mode === 'scratch') return { source: into.source || source, database: scratchName }
  return { source, database }
}
