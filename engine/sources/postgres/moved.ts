import type pg from 'pg'
import type { DatabaseManifest, Missing } from '../../../core/content/manifest'
import { keyOf } from '../../../core/restore/merge'
import { rootsOf, type StructureEntry } from '../../../core/restore/structure'
import { pathOf } from '../../../core/things/thing'

// Through a snapshot the catalogs are read as they were, but the server's own functions write definitions with what
// things are called now, and those of triggers, indexes and statistics as they are now. So after a reading it is looked
// for what was changed since its snapshot.

export const MOVED = 'It was changed while it was read: its definition may be that of soon after.'

/** Catalogs that are not read through it, with the column of the object that a line belongs to. */
const CATALOGS: [catalog: string, of: string, object: string][] = [
  ['pg_class', 'pg_class', 'oid'],
  ['pg_attribute', 'pg_class', 'attrelid'],
  ['pg_index', 'pg_class', 'indexrelid'],
  ['pg_trigger', 'pg_trigger', 'oid'],
  ['pg_statistic_ext', 'pg_statistic_ext', 'oid'],
  ['pg_proc', 'pg_proc', 'oid'],
  ['pg_type', 'pg_type', 'oid'],
  ['pg_operator', 'pg_operator', 'oid'],
  ['pg_collation', 'pg_collation', 'oid'],
  ['pg_namespace', 'pg_namespace', 'oid'],
]

/** Of all transactions with these lower 32 bits, the one next to the snapshot wrote the line; see `isVisible`. */
const writer = `greatest(3, pg_snapshot_xmax($1::pg_snapshot)::text::bigint - ((pg_snapshot_xmax($1::pg_snapshot)::text::bigint - x.xmin::text::bigint + 2147483648) & 4294967295) + 2147483648)`

const SINCE = CATALOGS.map(
  ([catalog, of, object]) => `select '${of}'::regclass::oid::int || '/' || x.${object}::int as key from pg_catalog.${catalog} x
    where x.${object} >= 16384 and not pg_visible_in_snapshot(${writer}::text::xid8, $1::pg_snapshot)`,
).join(' union ')

/**
 * What was changed since a snapshot, and is in a structure that was read through it: catalog and object id.
 *
 * @param visible the snapshot as `pg_current_snapshot()` writes it
 */
export async function movedSince(client: pg.Client, visible: string, entries: StructureEntry[]): Promise<string[]> {
  const { rows } = await client.query<{ key: string }>(SINCE, [visible])
  const read = new Set(entries.map(keyOf))
  return rows.map(({ key }) => key).filter((key) => read.has(key))
}

type Reading = Pick<DatabaseManifest, 'entries' | 'moved'>

/** Entries of what was changed while it was read, or whose definitions name such a thing. */
function doubtful({ entries, moved = [] }: Reading): StructureEntry[] {
  const keys = new Set(moved)
  const ids = new Set(entries.filter((entry) => keys.has(keyOf(entry))).map(({ id }) => id))
  return ids.size === 0 ? [] : entries.filter(({ id, needs }) => ids.has(id) || needs.some((need) => ids.has(need)))
}

/** Things of which a reading does not say for certain how they were, by catalog and object id. */
export const doubtfulKeys = (reading: Reading): Set<string> => new Set(doubtful(reading).map(keyOf))

/** Of each thing of which a reading does not say for certain how it was, that this is so. */
export function doubtsOf(reading: Reading, source: string, database: string): Missing[] {
  const found = doubtful(reading)
  if (found.length === 0) return []
  const roots = rootsOf(reading.entries, [])
  const byId = new Map(reading.entries.map((entry) => [entry.id, entry]))
  const things = new Set(found.map(({ id }) => byId.get(roots.get(id)!)!))
  return [...things].map(({ schema, name }) => ({
    path: pathOf(source, database, ...(schema === null ? [] : [schema]), name),
    reason: MOVED,
    note: true,
  }))
}
