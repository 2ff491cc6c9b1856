import type { Followed, FollowedTables, LateHole } from '../../core/changes/manifest'
import { brokenBy } from '../../core/changes/rewrites'
import { laterPosition } from '../../core/chain/position'
import type { TableManifest } from '../../core/content/manifest'
import type { Identified, LogTable } from '../sources/postgres/log/install'
import { entryOf, holeFrom, NOT_IN_LOG } from './structure-model'

/**
 * What is followed of the tables after their structure was compared with how it was before: for sources that do not
 * tell where it changed. Rows of a table are restorable from a state at or after `since`, or from nothing when it was
 * born while it was followed.
 *
 * @param between nothing had changed up to `from`, and all had changed by `at`
 */
export function followedAfter(
  before: FollowedTables,
  old: TableManifest[],
  now: { tables: TableManifest[]; identities: Identified[] },
  added: Map<number, { end: string; empty: boolean }>,
  { from, at }: { from: string; at: string },
): FollowedTables {
  const was = new Map(old.map((table) => [table.oid, table]))
  const identity = new Map(now.identities.map((identity) => [identity.oid, identity]))
  const after: FollowedTables = {}
  for (const table of now.tables) {
    if (table.structure.kind !== 'table') continue
    const { oid } = table
    const { trouble } = identity.get(oid) ?? { trouble: 'It was dropped again.' }
    const earlier = was.get(oid)
    const why = earlier ? brokenBy(earlier, table, null) : null
    after[oid] = nextOf(table, before[oid], { trouble, why, isNew: !earlier, added: added.get(oid) ?? null, from, at })
  }
  return after
}

function nextOf(
  table: TableManifest,
  known: Followed | undefined,
  now: {
    trouble: string | null
    why: string | null
    isNew: boolean
    added: { end: string; empty: boolean } | null
    from: string
    at: string
  },
): Followed {
  const hole = now.why !== null || (now.trouble !== null && known?.since) ? now.from : known?.hole
  const rest = hole === undefined ? {} : { hole }
  if (now.trouble !== null) return entryOf(table, { since: null, born: false, why: now.why ?? now.trouble, ...rest })
  if (known?.since && now.why === null) return { ...known, schema: table.schema, name: table.name }
  const since = laterPosition(now.added?.end ?? now.from, now.at)
  if (now.why !== null) return { ...holeFrom(table, since, now.why), hole: now.from }
  if (now.isNew && now.added?.empty) return entryOf(table, { since, born: true, why: null })
  return entryOf(table, { since, born: false, why: known?.hole ? known.why : NOT_IN_LOG, ...rest })
}

/** Tables that somebody holds could not be published yet; that is tried again. */
export function unpublished(found: Identified[], wanted: LogTable[], published: Set<number>): Identified[] {
  const held = new Set(wanted.filter(({ oid }) => !published.has(oid)).map(({ oid }) => oid))
  return found.map((table) => (held.has(table.oid) ? { ...table, trouble: HELD } : table))
}

const HELD = 'It is held by somebody, so that following it could not begin yet; it is tried again.'

/** Tables that were followed, and whose rows are not known any more since some place after `from`. */
export function lateHole(from: string, before: FollowedTables, after: FollowedTables): LateHole | null {
  const tables = Object.fromEntries(
    Object.entries(after).filter(([oid, now]) => {
      const was = before[Number(oid)]
      return was?.since && was.since !== now.since && !now.born
    }),
  )
  return Object.keys(tables).length > 0 ? { from, tables } : null
}
