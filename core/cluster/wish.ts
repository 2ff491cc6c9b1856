import type { Operation } from 'fast-json-patch'
import type { Act } from '../quiesce/sequence'
import type { Collision } from '../restore/wish'

/** What becomes of services and ingresses, which make a namespace reachable. */
export type Exposure =
  /** As they were. */
  | 'keep'
  /** They do not come back. */
  | 'leave'
  /** They come back and nothing outside of the cluster leads to them. */
  | 'unplug'

/** A change to the objects of a kind, as JSON Patch (RFC 6902). */
export interface Change {
  /** `Deployment`, or `*` for every kind. */
  kind: string
  /** A name, with `*` for any characters. */
  name: string
  patch: Operation[]
}

/** A command that is run when everything is ready again, or another act; its output is on the receipt. */
export interface AfterStep {
  name: string
  act: Act
  limitMs: number
}

/** How namespaces come back: where to, under which names, and changed in which ways. */
export interface ClusterWish {
  /** The cluster; null for the one that they come from. */
  source: string | null
  /** Names of namespaces at the target, by those of then; others keep theirs. */
  namespaces: Record<string, string>
  /** Storage classes at the target, by those of then. */
  classes: Record<string, string>
  prefix: string
  suffix: string
  /** Labels that every object is given; null takes one away. */
  labels: Record<string, string | null>
  /** Beginnings of image names, by those of then. */
  registries: Record<string, string>
  changes: Change[]
  /** Null lets the plan decide: a copy beside a living original comes back unplugged, all else as it was. */
  exposure: Exposure | null
  secrets: boolean
  /** Workloads come back with nothing running, and nobody starts them. */
  atRest: boolean
  /** Single files of volumes, by the volume's path: files, or folders with all that is in them. */
  files: Record<string, string[]>
  after: AfterStep[]
  /** How long workloads may take until they are ready, in milliseconds. */
  readyWithinMs: number
}

export const READY_WITHIN = { min: 1000, max: 24 * 3_600_000, default: 300_000 } as const

const USUAL: ClusterWish = {
  source: null,
  namespaces: {},
  classes: {},
  prefix: '',
  suffix: '',
  labels: {},
  registries: {},
  changes: [],
  exposure: null,
  secrets: true,
  atRest: false,
  files: {},
  after: [],
  readyWithinMs: READY_WITHIN.default,
}

/** A wish with everything that is not said taken as usual. */
export const clusterWishOf = (given: Partial<ClusterWish> = {}): ClusterWish => ({ ...USUAL, ...given })

/** What the planner needs of the wish for all kinds of sources. */
export interface Asked {
  picks: string[]
  collide: Collision
  each: Record<string, Collision>
  cluster: ClusterWish
}
