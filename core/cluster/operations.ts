import type { ClusterObject } from './clean'
import type { Right } from './rights'
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
  /** Something of its name stands there, as it was or not. */
  stands: boolean
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
  /** A volume of its name stands there. */
  stands: boolean
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
  /** Why what comes back is unplugged, where the plan decided that; null where it is not, or a person did. */
  unplugged: string | null
  /** Rights at the target that it needs. */
  needs: Right[]
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
