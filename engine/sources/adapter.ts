import type { PostgresAccess } from './postgres/connect'
import { captureServer } from './postgres/capture-server'
import { discover } from './postgres/discover'
import { probe } from './postgres/probe'
import type { CaptureJob, SourceAdapter } from './source'

/** The adapter of each kind of source, over the way to reach one. */
const ADAPTERS = {
  postgres: (access: PostgresAccess): SourceAdapter => ({
    probe: (now) => probe(access, now),
    discover: () => discover(access),
    capture: (job: CaptureJob) => captureServer(access, job),
  }),
}

export function adapterOf(kind: keyof typeof ADAPTERS, access: PostgresAccess): SourceAdapter {
  return ADAPTERS[kind](access)
}
