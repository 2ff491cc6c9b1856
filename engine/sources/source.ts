import type { Thing } from '../../core/things/thing'

/** One line of a probe: what was tested, how it went, and what mends it. */
export interface ProbeFinding {
  id: string
  title: string
  /** `missing` stands in the way of backups; `advice` of something less. */
  outcome: 'ok' | 'advice' | 'missing'
  detail: string
  /** The statement or step that mends it. */
  mend: string | null
}

export interface ProbeReport {
  at: string
  usable: boolean
  server: { version: string; versionNumber: number; systemId: string } | null
  findings: ProbeFinding[]
}

/** What every kind of source offers. A new kind of source is an adapter with this interface and nothing else. */
export interface SourceAdapter {
  readonly kind: string
  /** Tests the address, the credentials and each privilege, one by one. Never throws for what it tests. */
  probe(): Promise<ProbeReport>
  /** All things that the source holds, containers before what lies in them. */
  discover(): AsyncGenerator<Thing>
}
