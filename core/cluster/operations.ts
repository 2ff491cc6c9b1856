import type { ClusterObject } from './clean'
import type { Phase } from './phases'

export type ClusterVerb = 'create' | 'replace' | 'merge' | 'leave'

/** What is done with one object of the point. */
export interface ObjectOperation {
  /** In the point. */
  path: string
  kind: string
  group: string
  name: string
  namespace: string | null
  /** At the target. */
  target: string
  phase: Phase
  verb: ClusterVerb
  /** Replacing means removing and making, because of these fields. */
  anew: string[]
  renamed: boolean
  /** What stands there is what was then. */
  same: boolean
  notes: string[]
  warnings: string[]
}

export interface VolumeOperation {
  path: string
  claim: string
  namespace: string
  target: string
  verb: ClusterVerb
  renamed: boolean
  files: number
  bytes: number
  /** Single files and folders of it; null for all of it. */
  only: string[] | null
  notes: string[]
  warnings: string[]
}

export interface Blocker {
  code: string
  what: string
  next: string
}

export interface NamespacePlan {
  /** In the point. */
  namespace: string
  /** Where it goes. */
  source: string
  into: string
  /** Whether the namespace has to be made. */
  makes: boolean
  labels: Record<string, string>
  operations: ObjectOperation[]
  volumes: VolumeOperation[]
  blockers: Blocker[]
  warnings: string[]
  bytes: number
  files: number
  /** What its objects ask for, and what there is at the target to choose from. */
  asks: { classes: string[]; registries: string[] }
  there: { classes: string[] }
  /** Things that stand and are changed or replaced. */
  overwrites: number
}

export interface PlannedObject {
  operation: ObjectOperation
  /** As it will be sent. */
  object: ClusterObject
}
