/**
 * Asking for the size of a table waits for whoever holds it exclusively. Such a table has no size until the
 * next look, so that one that is being altered does not keep everything else from being seen.
 */
export const sizeUnlessHeld = (size: string) => `case when exists (
    select from pg_catalog.pg_locks l where l.relation = c.oid and l.mode = 'AccessExclusiveLock' and l.granted and l.pid <> pg_backend_pid()
      and l.database = (select d.oid from pg_catalog.pg_database d where d.datname = current_database()))
  then null else ${size}(c.oid) end`
