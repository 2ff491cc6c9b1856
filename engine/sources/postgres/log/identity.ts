import { quoteIdentifier } from '../../../../core/restore/sql'

// By what the rows of a table can be told apart in its source's log, and whether it may be published at all.

/**
 * Whether the server lets an index (alias `i` of pg_index) identify rows for publication: what it asks itself in
 * RelationGetIndexList before it accepts an update of a published table.
 */
const IDENTIFIES = `i.indisunique and i.indisvalid and i.indimmediate and i.indpred is null and i.indexprs is null`

/** Whether a table (alias `c` of pg_class) can be published without its own updates being refused. */
export const SAFE = `(c.relreplident = 'f'
      or c.relreplident in ('d', 'i') and exists (select from pg_catalog.pg_index i where i.indrelid = c.oid
        and case c.relreplident when 'd' then i.indisprimary else i.indisreplident end and ${IDENTIFIES}))`

/** The facts of `Identity` of a table (alias `c` of pg_class), as columns of a query. */
export const IDENTITY_FACTS = `
    exists (select from pg_catalog.pg_index i where i.indrelid = c.oid and i.indisprimary and not i.indimmediate) as postponed,
    exists (select from pg_catalog.pg_index i where i.indrelid = c.oid and i.indisprimary and ${IDENTIFIES}) as primary,
    exists (select from pg_catalog.pg_index i where i.indrelid = c.oid and i.indisreplident and ${IDENTIFIES}) as index,
    exists (select from pg_catalog.pg_index i where i.indrelid = c.oid and ${IDENTIFIES}
      and not exists (select from unnest(i.indkey) k join pg_catalog.pg_attribute a on a.attrelid = c.oid and a.attnum = k where not a.attnotnull)) as unique`

/** Numbers of the columns that the log writes of old rows of a table (alias `c`); null where it writes whole ones. */
export const IDENTITY_KEY = `case when c.relreplident <> 'f' then coalesce((select array_agg(k.n::int order by k.ord) from pg_catalog.pg_index i
      cross join unnest(i.indkey) with ordinality k (n, ord) where i.indrelid = c.oid and k.ord <= i.indnkeyatts
        and case c.relreplident when 'd' then i.indisprimary when 'i' then i.indisreplident else false end), '{}') end`

export interface Identity {
  /** `p` or `u`, as the catalog has it. */
  persistence: string
  /** `d`, `n`, `f` or `i`. */
  identity: string
  /** It has a primary key that is checked at the end of a transaction, which identifies no rows. */
  postponed: boolean
  primary: boolean
  index: boolean
  unique: boolean
}

/** Why rows of a table can't be followed, and the statement that mends it where one does. */
export interface Trouble {
  trouble: string | null
  mend: string | null
}

export function troubleOf(schema: string, name: string, { persistence, identity, postponed, primary, index, unique }: Identity): Trouble {
  const table = `${quoteIdentifier(schema)}.${quoteIdentifier(name)}`
  if (persistence === 'u') return { trouble: 'It is unlogged: its changes are in no log.', mend: `ALTER TABLE ${table} SET LOGGED;` }
  if ((identity === 'd' && primary) || (identity === 'i' && index) || (identity === 'f' && unique)) return { trouble: null, mend: null }
  if (identity === 'n')
    return { trouble: 'It is set to write no identity of its rows.', mend: `ALTER TABLE ${table} REPLICA IDENTITY DEFAULT;` }
  if (identity === 'd' && postponed)
    return {
      trouble: 'Its primary key is deferrable, and such a key identifies no rows in the log.',
      mend: `-- make the primary key of ${table} anew without DEFERRABLE`,
    }
  return {
    trouble: 'It has no key by which its rows can be told apart.',
    mend: `ALTER TABLE ${table} ADD COLUMN row_id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY;`,
  }
}
