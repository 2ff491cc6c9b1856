import { passed } from '../../passed'
import { withClient, type PostgresAccess } from './connect'

/** How often it is looked whether anything came, went or was renamed. */
const LOOK_EVERY_MS = 20_000

/** What of a database has names: another text once anything of that is another. */
const SIGN = `
  select count(*) || ' ' || coalesce(sum(hashtextextended(x.name, x.oid::bigint)), 0) as sign from (
    select c.oid, concat_ws(' ', c.relnamespace, c.relkind, c.relname) as name from pg_catalog.pg_class c where c.relkind in ('r', 'p', 'v', 'm', 'S', 'f')
    union all select n.oid, n.nspname::text from pg_catalog.pg_namespace n where n.nspname !~ '^pg_'
    union all select p.oid, concat_ws(' ', p.pronamespace, p.proname) from pg_catalog.pg_proc p where p.oid >= 16384) x`

/**
 * What a server counts of every change of a row, that of a catalog too, by database: where it stands still, nothing was
 * changed. Empty where it does not count, or may keep what it has counted to itself for long, as versions before 15 do.
 */
const COUNTED = `
  select d.datname as name, case when current_setting('track_counts')::bool and current_setting('server_version_num')::int >= 150000
      then concat_ws(' ', s.tup_inserted, s.tup_updated, s.tup_deleted, s.stats_reset) else '' end as counted
  from pg_catalog.pg_database d left join pg_catalog.pg_stat_database s on s.datid = d.oid
  where d.datallowconn and has_database_privilege(d.oid, 'connect')`

interface Seen {
  counted: string
  sign: string
}

/**
 * Looks again and again whether the structure of a server's databases has changed, which costs it next to nothing:
 * databases in which no row was changed are not even opened.
 *
 * @param changed is told for how many milliseconds what it now finds may have been so; of what was done before the first
 *   look that is not known
 */
export async function watch(access: PostgresAccess, changed: (forMs?: number) => void, signal: AbortSignal): Promise<void> {
  let at = performance.now()
  let seen = await look(access, new Map())
  changed()
  while (await passed(LOOK_EVERY_MS, signal)) {
    const began = performance.now()
    const now = await look(access, seen)
    const isSame = now.size === seen.size && [...now].every(([name, { sign }]) => seen.get(name)?.sign === sign)
    if (!isSame) changed(performance.now() - at)
    seen = now
    at = began
  }
}

async function look(access: PostgresAccess, before: Map<string, Seen>): Promise<Map<string, Seen>> {
  const seen = new Map<string, Seen>()
  const { rows } = await withClient(access, undefined, (client) => client.query<{ name: string; counted: string }>(COUNTED))
  for (const { name, counted } of rows) {
    const was = before.get(name)
    const isStill = counted !== '' && was?.counted === counted
    seen.set(name, { counted, sign: isStill ? was!.sign : await withClient(access, name, signOf) })
  }
  return seen
}

const signOf: Parameters<typeof withClient<string>>[2] = async (client) => (await client.query<{ sign: string }>(SIGN)).rows[0]!.sign
