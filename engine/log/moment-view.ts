import type { ArtifactKind } from '../../core/chain/chain'
import type { MomentRef } from '../../core/chain/moment-ref'
import type { EngineContext } from '../context'
import { resolveMoment } from './moment'

/** A link of the chain that would be read. */
export interface ChainLink {
  id: string
  kind: ArtifactKind
  at: Date
  rows: number
  bytes: number
  stored: number
}

export interface MemberAtMoment {
  member: string
  at: Date
  /** Whether the member stands exactly there, and not at the last mark before it. */
  exact: boolean
  position: string
  marks: ChainLink[]
  /** All the segments of log together; null when none is read. */
  log: { segments: number; rows: number; bytes: number; stored: number; from: Date; to: Date } | null
}

export interface MomentView {
  at: Date
  members: MemberAtMoment[]
  missing: string[]
  bytes: number
  exact: boolean
}

/** What would be read to bring a vessel back to a moment. */
export async function momentView(engine: EngineContext, ref: MomentRef): Promise<MomentView> {
  const { at, chains, missing } = await resolveMoment(engine, ref)
  const members = chains.map(({ member, marks, logs, position, at: stands, exact }): MemberAtMoment => {
    const sum = (field: 'rows' | 'bytes' | 'stored') => logs.reduce((all, log) => all + log[field], 0)
    return {
      member,
      at: stands,
      exact,
      position,
      marks: marks.map(({ id, kind, at: taken, rows, bytes, stored }) => ({ id, kind, at: taken, rows, bytes, stored })),
      log:
        logs.length === 0
          ? null
          : {
              segments: logs.length,
              rows: sum('rows'),
              bytes: sum('bytes'),
              stored: sum('stored'),
              from: logs[0]!.fromAt,
              to: logs.at(-1)!.at,
            },
    }
  })
  const bytes = members.reduce((all, { marks, log }) => all + marks.reduce((sum, mark) => sum + mark.bytes, 0) + (log?.bytes ?? 0), 0)
  return { at, members, missing, bytes, exact: missing.length === 0 && members.every(({ exact }) => exact) }
}
