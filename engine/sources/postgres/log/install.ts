import type pg from 'pg'
import { qualified, quoteIdentifier, quoteLiteral } from '../../../../core/restore/sql'
import { OURS, quietly } from '../event-triggers'

// What is put onto a source so that its log can be followed, word for word as the definition shows it. None of it
// may make a statement of the source fail or wait: the function swallows its own errors and waits for no lock
// longer than a tenth of a second, no table is published whose updates would then be refused, and event triggers of
// the application see nothing of it (those that are set to fire always can't be kept from it, which readiness tells).

/**
 * Whether the server lets an index (alias `i` of pg_index) identify rows for publication: what it asks itself in
 * RelationGetIndexList before it accepts an update of a published table.
 */
const IDENTIFIES = `i.indisunique and i.indisvalid and i.indimmediate and i.indpred is null and i.indexprs is null`

/** Whether a table (alias `c` of pg_class) can be published without its own updates being refused. */
const SAFE = `(c.relreplident = 'f'
      or c.relreplident in ('d', 'i') and exists (select from pg_catalog.pg_index i where i.indrelid = c.oid
        and case c.relreplident when 'd' then i.indisprimary else i.indisreplident end and ${IDENTIFIES}))`

const NOTE_STRUCTURE = `create or replace function ${OURS}.note_structure() returns event_trigger
language plpgsql security definer set search_path = pg_catalog, pg_temp set lock_timeout = '100ms' set session_replication_role = replica as $function$
declare
  objects json;
  added json;
  dropped json;
  columns json;
  item record;
begin
  if current_setting('${OURS}.busy', true) = 'on' or tg_tag like 'REFRESH%' then return; end if;
  perform set_config('${OURS}.busy', 'on', true);
  if tg_event = 'sql_drop' then
    select json_agg(json_build_object('kind', o.object_type, 'name', o.object_identity, 'oid', o.objid::bigint)) into objects
    from pg_event_trigger_dropped_objects() o where o.original and not o.is_temporary;
  elsif tg_event = 'ddl_command_end' then
    select json_agg(json_build_object('kind', o.object_type, 'name', o.object_identity, 'oid', o.objid::bigint)) into objects
    from pg_event_trigger_ddl_commands() o where o.schema_name is distinct from 'pg_temp';
    -- Columns have numbers that stay when they are renamed; with them rows of then become rows of now.
    with recursive touched as (
      select distinct o.objid as oid from pg_event_trigger_ddl_commands() o where o.classid = 'pg_class'::regclass
      union select i.inhrelid from touched t join pg_inherits i on i.inhparent = t.oid)
    select json_agg(json_build_array(c.oid::bigint, (select json_agg(json_build_array(a.attnum, a.attname) order by a.attnum) from pg_attribute a
        where a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped and a.attgenerated = ''))) into columns
    from touched t join pg_class c on c.oid = t.oid where c.relkind = 'r' and c.relpersistence = 'p';
    -- A table whose rows can be told apart is followed from its first row on.
    for item in
      select c.oid, c.oid::regclass as name, p.pubname, pg_relation_size(c.oid) = 0 as empty
      from pg_event_trigger_ddl_commands() o join pg_class c on c.oid = o.objid and o.classid = 'pg_class'::regclass
        cross join pg_publication p
      where c.relkind = 'r' and c.relpersistence = 'p' and ${SAFE}
        and c.relnamespace not in ('pg_catalog'::regnamespace, '${OURS}'::regnamespace)
        and p.pubname like '${OURS}\\_%' and not exists (select from pg_publication_rel r where r.prpubid = p.oid and r.prrelid = c.oid)
    loop
      begin
        execute format('alter publication %I add table only %s', item.pubname, item.name);
        added := coalesce(added::jsonb, '[]'::jsonb) || jsonb_build_array(jsonb_build_array(item.pubname, item.oid::bigint, item.empty));
      exception when others then null;
      end;
    end loop;
  end if;
  -- A table that has lost its identity must not stay published, or its updates would be refused.
  for item in
    select c.oid, c.oid::regclass as name, p.pubname
    from pg_publication p join pg_publication_rel r on r.prpubid = p.oid join pg_class c on c.oid = r.prrelid
    where p.pubname like '${OURS}\\_%' and not ${SAFE}
  loop
    begin
      execute format('alter publication %I drop table only %s', item.pubname, item.name);
    exception when others then
      begin
        execute format('alter table only %s replica identity full', item.name);
      exception when others then null;
      end;
    end;
    dropped := coalesce(dropped::jsonb, '[]'::jsonb) || jsonb_build_array(jsonb_build_array(item.pubname, item.oid::bigint));
  end loop;
  if objects is not null or added is not null or dropped is not null then
    perform pg_logical_emit_message(true, '${OURS}', json_build_object('tag', tg_tag, 'statement', left(current_query(), 4000),
      'objects', objects, 'columns', columns, 'added', added, 'dropped', dropped)::text);
  end if;
  perform set_config('${OURS}.busy', 'off', true);
exception when others then null;
end $function$`

const TRIGGERS = [
  `create schema if not exists ${OURS}`,
  NOTE_STRUCTURE,
  `revoke all on function ${OURS}.note_structure() from public`,
  `drop event trigger if exists ${OURS}_command`,
  `create event trigger ${OURS}_command on ddl_command_end execute function ${OURS}.note_structure()`,
  `drop event trigger if exists ${OURS}_drop`,
  `create event trigger ${OURS}_drop on sql_drop execute function ${OURS}.note_structure()`,
]

const UNTRIGGERS = [
  `drop event trigger if exists ${OURS}_command`,
  `drop event trigger if exists ${OURS}_drop`,
  `drop schema if exists ${OURS} cascade`,
]

export interface LogTable {
  oid: number
  schema: string
  name: string
}

const publish = (publication: string, tables: LogTable[]) => {
  const list = tables.map(({ schema, name }) => `only ${quoteIdentifier(schema)}.${quoteIdentifier(name)}`).join(', ')
  return `create publication ${quoteIdentifier(publication)}${list ? ` for table ${list}` : ''}`
}

/** The exact statements that following the log begins with, in their order. */
export function installStatements(names: { slot: string; publication: string }, tables: LogTable[], trigger: boolean): string[] {
  return [
    ...(trigger ? TRIGGERS : []),
    publish(names.publication, tables),
    `select pg_create_logical_replication_slot(${quoteLiteral(names.slot)}, 'pgoutput')`,
  ].map((statement) => `${statement};`)
}

/** Those that take everything away again. */
export function removeStatements(names: { slot: string; publication: string }): string[] {
  return [
    `select pg_drop_replication_slot(${quoteLiteral(names.slot)});`,
    `drop publication if exists ${quoteIdentifier(names.publication)};`,
    ...UNTRIGGERS.map((s) => `${s};`),
  ]
}

/** Installs what notes changes of structure. Several followers of a database share it. */
export async function installTrigger(client: pg.Client): Promise<void> {
  const { rows } = await client.query<{ current: boolean }>(
    `select exists (select from pg_catalog.pg_proc p join pg_catalog.pg_namespace n on n.oid = p.pronamespace
       where n.nspname = $1 and p.proname = 'note_structure' and position(p.prosrc in $2) > 0)
       and (select count(*) from pg_catalog.pg_event_trigger where evtname in ($3, $4) and evtenabled <> 'D') = 2 as current`,
    [OURS, NOTE_STRUCTURE, `${OURS}_command`, `${OURS}_drop`],
  )
  if (rows[0]!.current) return
  await quietly(client, async () => {
    for (const statement of TRIGGERS) await client.query(statement)
  })
}

export async function hasTrigger(client: pg.Client): Promise<boolean> {
  const { rows } = await client.query<{ has: boolean }>(
    `select count(*) = 2 as has from pg_catalog.pg_event_trigger where evtname in ($1, $2) and evtenabled <> 'D'`,
    [`${OURS}_command`, `${OURS}_drop`],
  )
  return rows[0]!.has
}

/**
 * Makes the publication hold exactly the given tables, as far as their locks are given: nobody is kept waiting for
 * it. Returns which ones came to it, and the object ids of all that are in it then.
 */
export async function alignPublication(
  client: pg.Client,
  publication: string,
  tables: LogTable[],
): Promise<{ added: LogTable[]; published: Set<number> }> {
  const { rows: exists } = await client.query(`select from pg_catalog.pg_publication where pubname = $1`, [publication])
  if (exists.length === 0) await quietly(client, () => client.query(publish(publication, [])))
  const has = await membersOf(client, publication)
  const known = new Set(has.map(({ oid }) => oid))
  const wanted = new Set(tables.map(({ oid }) => oid))
  for (const table of has) if (!wanted.has(table.oid)) await withdraw(client, publication, table)
  const fresh = tables.filter(({ oid }) => !known.has(oid))
  if (fresh.length > 0 && !(await publishSafely(client, publication, fresh)))
    for (const table of fresh) await publishSafely(client, publication, [table])
  const published = new Set((await membersOf(client, publication)).map(({ oid }) => oid))
  return { added: fresh.filter(({ oid }) => published.has(oid)), published }
}

async function membersOf(client: pg.Client, publication: string): Promise<LogTable[]> {
  const { rows } = await client.query<LogTable>(
    `select c.oid::int, n.nspname as schema, c.relname as name from pg_catalog.pg_publication p
       join pg_catalog.pg_publication_rel r on r.prpubid = p.oid join pg_catalog.pg_class c on c.oid = r.prrelid
       join pg_catalog.pg_namespace n on n.oid = c.relnamespace where p.pubname = $1`,
    [publication],
  )
  return rows
}

/** Gone already, or held by somebody who is not to wait for us; it is looked at again. */
const isHeldOrGone = (error: unknown) => ['42P01', '42704', '55P03', '40P01'].includes((error as { code?: string }).code ?? '')

async function withdraw(client: pg.Client, publication: string, { schema, name }: LogTable): Promise<void> {
  await quietly(client, () =>
    client.query(`alter publication ${quoteIdentifier(publication)} drop table only ${qualified(schema, name)}`),
  ).catch((error: unknown) => {
    if (!isHeldOrGone(error)) throw error
  })
}

/**
 * Publishes tables unless one has lost its identity since it was looked at: with the locks held they are looked at
 * once more, so that nobody ever sees one published whose updates would be refused. Tells whether all came to it.
 */
async function publishSafely(client: pg.Client, publication: string, tables: LogTable[]): Promise<boolean> {
  const list = tables.map(({ schema, name }) => `only ${qualified(schema, name)}`).join(', ')
  try {
    await quietly(client, async () => {
      await client.query(`alter publication ${quoteIdentifier(publication)} add table ${list}`)
      const { rowCount } = await client.query(`select from pg_catalog.pg_class c where c.oid = any ($1) and ${SAFE}`, [
        tables.map(({ oid }) => oid),
      ])
      if (rowCount !== tables.length) throw Object.assign(new Error('An identity is lost.'), { code: '42704' })
    })
    return true
  } catch (error) {
    if (isHeldOrGone(error)) return false
    throw error
  }
}

/** Takes a follower's things off a database; the trigger goes with the last of them. */
export async function uninstall(client: pg.Client, publication: string): Promise<void> {
  await quietly(client, () => client.query(`drop publication if exists ${quoteIdentifier(publication)}`))
  const { rows } = await client.query(`select from pg_catalog.pg_publication where pubname like $1 limit 1`, [`${OURS}\\_%`])
  if (rows.length > 0) return
  const { rows: may } = await client.query<{ super: boolean }>(
    `select rolsuper as super from pg_catalog.pg_roles where rolname = current_user`,
  )
  if (!may[0]?.super) return
  await quietly(client, async () => {
    for (const statement of UNTRIGGERS) await client.query(statement)
  })
}

export interface Identified extends LogTable {
  /** Why its rows can't be followed; null when they can. */
  trouble: string | null
  /** The statement that mends it, where one does. */
  mend: string | null
  /** What would change when it does: a digest over what the follower has to know. */
  digest: string
}

/** Every table with rows of its own, whether its changes can be followed, and what mends it if not. */
export async function identities(client: pg.Client): Promise<Identified[]> {
  const { rows } = await client.query<LogTable & Identity & { digest: string }>(IDENTITIES)
  return rows.map(({ oid, schema, name, digest, ...table }) => ({ oid, schema, name, digest, ...troubleOf(schema, name, table) }))
}

/** By what the rows of a table can be told apart. */
interface Identity {
  persistence: string
  identity: string
  /** It has a primary key that is checked at the end of a transaction, which identifies no rows. */
  postponed: boolean
  primary: boolean
  index: boolean
  unique: boolean
}

function troubleOf(
  schema: string,
  name: string,
  { persistence, identity, postponed, primary, index, unique }: Identity,
): { trouble: string | null; mend: string | null } {
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

const IDENTITIES = `
  select c.oid::int, n.nspname as schema, c.relname as name, c.relpersistence as persistence, c.relreplident as identity,
    exists (select from pg_catalog.pg_index i where i.indrelid = c.oid and i.indisprimary and not i.indimmediate) as postponed,
    exists (select from pg_catalog.pg_index i where i.indrelid = c.oid and i.indisprimary and ${IDENTIFIES}) as primary,
    exists (select from pg_catalog.pg_index i where i.indrelid = c.oid and i.indisreplident and ${IDENTIFIES}) as index,
    exists (select from pg_catalog.pg_index i where i.indrelid = c.oid and ${IDENTIFIES}
      and not exists (select from unnest(i.indkey) k join pg_catalog.pg_attribute a on a.attrelid = c.oid and a.attnum = k where not a.attnotnull)) as unique,
    md5(concat_ws(' ', n.nspname, c.relname, c.relreplident, c.relpersistence, (select string_agg(concat_ws(',', a.attnum, a.attname, a.atttypid, a.atttypmod, a.attnotnull), ';' order by a.attnum)
      from pg_catalog.pg_attribute a where a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped),
      (select string_agg(concat_ws(',', i.indexrelid, i.indisvalid, i.indimmediate, i.indisreplident), ';' order by 1)
        from pg_catalog.pg_index i where i.indrelid = c.oid))) as digest
  from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace
  where c.relkind = 'r' and c.relpersistence in ('p', 'u') and n.nspname !~ '^pg_' and n.nspname not in ('information_schema', '${OURS}')
    and not exists (select from pg_catalog.pg_depend d where d.classid = 'pg_catalog.pg_class'::regclass and d.objid = c.oid and d.deptype = 'e')
  order by 2, 3`
