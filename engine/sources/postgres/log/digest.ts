import type pg from 'pg'
import { OURS } from '../event-triggers'

// Catalogs in which changes of the structure show: each line bears the transaction that wrote it. What the server
// writes there by itself (after an analysis, a vacuum) it writes in place. Temporary things come and go all the time.
const CATALOGS: [catalog: string, alias: string, of: string][] = [
  ['pg_class', 'c', `join pg_namespace n on n.oid = c.relnamespace where n.nspname !~ '^pg_(temp|toast)'`],
  [
    'pg_attribute',
    'a',
    `join pg_class c on c.oid = a.attrelid join pg_namespace n on n.oid = c.relnamespace where a.attnum > 0 and c.oid >= 16384 and n.nspname !~ '^pg_(temp|toast)'`,
  ],
  ['pg_type', 't', `join pg_namespace n on n.oid = t.typnamespace where t.oid >= 16384 and n.nspname !~ '^pg_(temp|toast)'`],
  ...[
    'enum',
    'proc',
    'namespace',
    'operator',
    'opclass',
    'opfamily',
    'cast',
    'collation',
    'conversion',
    'ts_config',
    'ts_dict',
    'ts_parser',
  ].map((name): [string, string, string] => [
    `pg_${name}`,
    'x',
    `where x.oid >= 16384 ${name === 'namespace' ? `and x.nspname !~ '^pg_(temp|toast)' and x.nspname <> '${OURS}'` : ''}`,
  ]),
  ...[
    'extension',
    'event_trigger',
    'policy',
    'statistic_ext',
    'publication',
    'foreign_server',
    'foreign_data_wrapper',
    'user_mapping',
    'default_acl',
    'language',
    'am',
    'transform',
  ].map((name): [string, string, string] => [
    `pg_${name}`,
    'x',
    name === 'event_trigger' ? `where x.evtname !~ '^${OURS}'` : name === 'publication' ? `where x.pubname !~ '^${OURS}'` : '',
  ]),
  ...[
    ['constraint', 'conrelid'],
    ['trigger', 'tgrelid'],
    ['rewrite', 'ev_class'],
    ['attrdef', 'adrelid'],
    ['index', 'indrelid'],
  ].map(([name, of]): [string, string, string] => [
    `pg_${name}`,
    'x',
    `left join pg_class c on c.oid = x.${of} left join pg_namespace n on n.oid = c.relnamespace where x.${of} = 0 or c.oid >= 16384 and n.nspname !~ '^pg_(temp|toast)'`,
  ]),
  ['pg_description', 'x', `where x.objoid >= 16384`],
  ['pg_inherits', 'x', ''],
]

const part = ([catalog, alias, of]: [string, string, string]) =>
  `select count(*)::bigint as n, coalesce(sum(${alias}.xmin::text::bigint), 0) as s from pg_catalog.${catalog} ${alias} ${of.replace(/\b(join) pg_/g, '$1 pg_catalog.pg_')}`

const DIGEST = `select md5(string_agg(n || ' ' || s, ',' order by i)) as digest
  from (${CATALOGS.map((catalog, i) => `select ${i} as i, n, s from (${part(catalog)}) p${i}`).join(' union all ')}) all_of_them`

/** Where a source stood when it was looked at, with its time by the source's clock. */
export interface Look {
  position: string
  at: Date
  /** The transactions that were writing then. */
  running: string[]
  /** Those of them that may be written as committed in the log, and are not visible yet. */
  unseen: string[]
}

// A commit is in the log before anybody sees it: while it waits for the disk, or for a standby that has to confirm it,
// which may take as long as that standby is away. Whose waiting we may not see may be waiting, where there are standbys.
// A prepared transaction is committed by a session that does not bear its number.
const TRANSACTIONS = `
  with session as (
    select pid, backend_xid, wait_event = 'SyncRep' or wait_event like 'WAL%'
        or state is null and current_setting('synchronous_standby_names') <> '' as waits
    from pg_catalog.pg_stat_activity where datname = current_database() and pid <> pg_backend_pid()
  ), running as (
    select l.transactionid::text as xid, case when l.pid is not null then s.waits
        else exists (select from session where waits and backend_xid is null) end as waits
    from pg_catalog.pg_locks l left join session s using (pid)
    where l.locktype = 'transactionid' and l.mode = 'ExclusiveLock' and l.granted
  )
  select coalesce(array_agg(xid), '{}') as running, coalesce(array_agg(xid) filter (where waits), '{}') as unseen from running`

/** One text that is another one when anything of the structure was changed, and a position up to which it holds. */
export async function catalogDigest(client: pg.Client): Promise<Look & { digest: string }> {
  // The position comes first: what is committed between the two is told as a change that may lie before it. What waits
  // comes before the digest: what is seen by then waits no more.
  const { rows: before } = await client.query<Pick<Look, 'position' | 'at'>>(
    'select pg_current_wal_lsn()::text as position, clock_timestamp() as at',
  )
  const { rows: transactions } = await client.query<Pick<Look, 'running' | 'unseen'>>(TRANSACTIONS)
  const { rows } = await client.query<{ digest: string }>(DIGEST)
  return { ...before[0]!, ...transactions[0]!, digest: rows[0]!.digest }
}
