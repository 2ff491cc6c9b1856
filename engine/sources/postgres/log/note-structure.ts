import { describedAsJson } from '../describe'
import { OURS } from '../event-triggers'
import { SAFE } from './identity'

// What notes changes of structure at a source: functions that write into its log, in the transaction that makes a
// change, how everything that it touched is from then on. So the structure is known as of the transaction, however
// quickly the next one follows.

/** What says nothing, and only keeps what follows a message behind it. */
export const PAD = `${OURS}_pad`

/** More tables than this are not described in one message: then they are read. */
const DESCRIBED_AT_MOST = 300

/** What goes along with something that is dropped and is worth a word; parts of tables are told with the tables. */
const WENT = ['view', 'materialized view', 'function', 'procedure', 'aggregate', 'trigger', 'policy', 'table constraint', 'sequence']
  .map((kind) => `'${kind}'`)
  .join()
const WENT_AT_MOST = 100

/** Settings that fix how expressions are written; nothing here waits, and event triggers of others see nothing of it. */
const FIXED = `set search_path = pg_catalog, pg_temp set lock_timeout = '100ms' set session_replication_role = replica
  set datestyle = 'ISO, YMD' set intervalstyle = postgres set timezone = 'UTC' set extra_float_digits = 3 set bytea_output = hex
  set standard_conforming_strings = on set quote_all_identifiers = off set row_security = off`

const ours = (relation: string) => `${relation}.pubname like '${OURS}\\_%'`

/**
 * From what a statement touched to all whose rows or structure hang on it: children, and tables with columns of a
 * type that was touched, as deep as types go. `touched` is an array of `class/oid`.
 */
const HANGING = `
    with recursive uses (class, oid) as (
      select split_part(t, '/', 1)::oid, split_part(t, '/', 2)::oid from unnest(touched) t
      union
      select n.class, n.oid from uses u cross join lateral (
        select 'pg_type'::regclass::oid as class, c.reltype as oid from pg_class c where u.class = 'pg_class'::regclass and c.oid = u.oid and c.reltype <> 0
        union all select 'pg_class'::regclass, i.inhrelid from pg_inherits i where u.class = 'pg_class'::regclass and i.inhparent = u.oid
        union all select 'pg_class'::regclass, x.indrelid from pg_index x where u.class = 'pg_class'::regclass and x.indexrelid = u.oid
        union all select 'pg_class'::regclass, k.conrelid from pg_constraint k where u.class = 'pg_constraint'::regclass and k.oid = u.oid and k.conrelid <> 0
        union all select 'pg_class'::regclass, k.confrelid from pg_constraint k where u.class = 'pg_constraint'::regclass and k.oid = u.oid and k.confrelid <> 0
        union all select 'pg_class'::regclass, g.tgrelid from pg_trigger g where u.class = 'pg_trigger'::regclass and g.oid = u.oid
        union all select 'pg_class'::regclass, l.polrelid from pg_policy l where u.class = 'pg_policy'::regclass and l.oid = u.oid
        union all select 'pg_class'::regclass, r.ev_class from pg_rewrite r where u.class = 'pg_rewrite'::regclass and r.oid = u.oid
        union all select 'pg_class'::regclass, f.adrelid from pg_attrdef f where u.class = 'pg_attrdef'::regclass and f.oid = u.oid
        union all select 'pg_class'::regclass, s.stxrelid from pg_statistic_ext s where u.class = 'pg_statistic_ext'::regclass and s.oid = u.oid
        union all select d.classid, d.objid from pg_depend d where u.class = 'pg_type'::regclass and d.refclassid = u.class and d.refobjid = u.oid
          and (d.classid = 'pg_type'::regclass or d.classid = 'pg_class'::regclass and d.objsubid > 0)) n)
    select array_agg(c.oid::int order by c.oid) into found
    from uses u join pg_class c on u.class = 'pg_class'::regclass and c.oid = u.oid join pg_namespace n on n.oid = c.relnamespace
    where c.relkind in ('r', 'p', 'f') and n.nspname !~ '^pg_' and n.nspname not in ('information_schema', '${OURS}')
      and not exists (select from pg_depend d where d.classid = 'pg_class'::regclass and d.objid = c.oid and d.deptype = 'e');`

/**
 * The server gives a message the position where its record ends, which is where the next record begins: of a message
 * in a subtransaction and a change that follows at once in the transaction around it, either may come first in the
 * log. So something that says nothing follows each message.
 */
const THEN_NOTHING = `perform pg_logical_emit_message(true, '${PAD}', '');`

const HEAD = (name: string) => `create or replace function ${OURS}.${name}() returns event_trigger
language plpgsql security definer ${FIXED} as $function$`

/** Tells of a failure of ours instead of a description; nothing of ours may fail a statement of the application. */
const TAIL = `exception when others then
  begin
    perform pg_logical_emit_message(true, '${OURS}', json_build_object('tag', tg_tag, 'statement', left(current_query(), 4000), 'failed', sqlerrm)::text);
    ${THEN_NOTHING}
  exception when others then null;
  end;
end $function$`

export const NOTE_STRUCTURE = `${HEAD('note_structure')}
declare
  objects json;
  touched text[] := '{}';
  gone text[] := '{}';
  found int[];
  added json;
  dropped json;
  went json;
  item record;
begin
  if current_setting('${OURS}.busy', true) = 'on' or tg_tag like 'REFRESH%' then return; end if;
  perform set_config('${OURS}.busy', 'on', true);
  if tg_event = 'sql_drop' then
    select json_agg(json_build_object('kind', o.object_type, 'name', o.object_identity, 'key', o.classid || '/' || o.objid) order by o.objid) filter (where o.original),
      coalesce(array_agg(o.classid || '/' || o.objid) filter (where o.objsubid = 0), '{}'),
      coalesce(array_agg(distinct o.classid || '/' || o.objid) filter (where o.objsubid > 0), '{}')
        || coalesce(array_agg('pg_class'::regclass::oid || '/' || to_regclass(format('%I.%I', o.address_names[1], o.address_names[2]))::oid)
          filter (where o.object_type in ('trigger', 'policy', 'rule', 'table constraint')), '{}')
      into objects, gone, touched
    from pg_event_trigger_dropped_objects() o where not o.is_temporary;
    select json_agg(json_build_object('kind', w.object_type, 'name', w.object_identity)) into went from (
      select o.object_type, o.object_identity from pg_event_trigger_dropped_objects() o
      where not o.original and not o.is_temporary and o.object_type in (${WENT}) and o.object_identity !~ '^"RI_ConstraintTrigger_' order by o.objid limit ${WENT_AT_MOST}) w;
    -- Whoever takes a table out of a publication of ours: from here on the log tells nothing of it.
    for item in
      select o.address_args[1] as pubname, c.oid from pg_event_trigger_dropped_objects() o
        join pg_class c on c.oid = to_regclass(format('%I.%I', o.address_names[1], o.address_names[2]))
      where o.object_type = 'publication relation' and o.address_args[1] like '${OURS}\\_%'
    loop
      dropped := coalesce(dropped::jsonb, '[]'::jsonb) || jsonb_build_array(jsonb_build_array(item.pubname, item.oid::bigint));
      touched := touched || ('pg_class'::regclass::oid || '/' || item.oid);
    end loop;
    touched := array(select t from unnest(touched) t where t is not null);
  else
    -- What was taken off before a table could become unlogged, and did not, comes back before anybody changes a row.
    for item in
      select c.oid, c.oid::regclass as name, o ->> 0 as pubname, c.relpersistence = 'p' and ${SAFE} as safe
      from jsonb_array_elements(coalesce(nullif(current_setting('${OURS}.off', true), ''), '[]')::jsonb) o join pg_class c on c.oid = (o ->> 1)::oid
    loop
      begin
        if item.safe then execute format('alter publication %I add table only %s', item.pubname, item.name); end if;
      exception when others then item.safe := false;
      end;
      if not item.safe then
        dropped := coalesce(dropped::jsonb, '[]'::jsonb) || jsonb_build_array(jsonb_build_array(item.pubname, item.oid::bigint));
        touched := touched || ('pg_class'::regclass::oid || '/' || item.oid);
      end if;
    end loop;
    perform set_config('${OURS}.off', '', true);
    select json_agg(json_build_object('kind', o.object_type, 'name', o.object_identity, 'key', o.classid || '/' || o.objid)),
      touched || coalesce(array_agg(distinct o.classid || '/' || o.objid) filter (where o.objid is not null), '{}')
      into objects, touched
    from pg_event_trigger_ddl_commands() o where o.schema_name is distinct from 'pg_temp';
    -- Of rights the server does not say what they are on: it is what this transaction wrote anew, or a younger one.
    if tg_tag in ('GRANT', 'REVOKE') then
      touched := touched || array(
        ${['pg_class', 'pg_proc', 'pg_type', 'pg_namespace']
          .map(
            (catalog) =>
              `select '${catalog}'::regclass::oid || '/' || x.oid from ${catalog} x where x.oid >= 16384 and age(x.xmin) <= age(pg_current_xact_id()::xid)`,
          )
          .join('\n        union all ')});
    end if;
    -- Of a partition that is let go, and of a sequence that goes along into another schema, it says nothing either.
    if tg_tag = 'ALTER TABLE' then
      touched := touched || array(
        select 'pg_class'::regclass::oid || '/' || x.oid from pg_class x where x.oid >= 16384 and age(x.xmin) <= age(pg_current_xact_id()::xid)
          and x.relkind in ('r', 'p', 'S', 'f') and x.relpersistence <> 't');
    end if;
    -- A table whose rows can be told apart is followed from its first row on.
    for item in
      select distinct c.oid, c.oid::regclass as name, p.pubname, pg_relation_size(c.oid) = 0 as empty
      from pg_event_trigger_ddl_commands() o join pg_class c on c.oid = o.objid and o.classid = 'pg_class'::regclass
        cross join pg_publication p
      where c.relkind = 'r' and c.relpersistence = 'p' and ${SAFE}
        and c.relnamespace not in ('pg_catalog'::regnamespace, '${OURS}'::regnamespace)
        and ${ours('p')} and not exists (select from pg_publication_rel r where r.prpubid = p.oid and r.prrelid = c.oid)
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
    where ${ours('p')} and not ${SAFE}
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
    touched := touched || ('pg_class'::regclass::oid || '/' || item.oid);
  end loop;
  if objects is not null or added is not null or dropped is not null then${HANGING}
    perform pg_logical_emit_message(true, '${OURS}', json_build_object('tag', tg_tag, 'statement', left(current_query(), 4000),
      'by', json_build_object('user', session_user, 'application', current_setting('application_name')), 'went', went,
      'objects', objects, 'touched', touched, 'gone', gone, 'added', added, 'dropped', dropped,
      'many', case when cardinality(found) > ${DESCRIBED_AT_MOST} then found end,
      'tables', case when cardinality(found) between 1 and ${DESCRIBED_AT_MOST} then ${describedAsJson('found')} end)::text);
    ${THEN_NOTHING}
  end if;
  perform set_config('${OURS}.busy', 'off', true);
${TAIL}`

/** Rows that are written anew are in no log; the server says so just before it does it, and why. */
export const NOTE_REWRITE = `${HEAD('note_rewrite')}
begin
  perform pg_logical_emit_message(true, '${OURS}', json_build_object('tag', tg_tag,
    'rewritten', json_build_array(json_build_array(pg_event_trigger_table_rewrite_oid()::bigint, pg_event_trigger_table_rewrite_reason())))::text);
  ${THEN_NOTHING}
${TAIL}`

/** The server refuses to make a published table unlogged, so it is taken off before. */
export const BEFORE_UNLOGGED = `${HEAD('before_unlogged')}
declare
  item record;
  off jsonb := '[]';
begin
  if current_query() !~* '\\munlogged\\M' then return; end if;
  perform set_config('${OURS}.busy', 'on', true);
  for item in
    select c.oid, c.oid::regclass as name, p.pubname
    from pg_publication p join pg_publication_rel r on r.prpubid = p.oid join pg_class c on c.oid = r.prrelid
    where ${ours('p')} and position(c.relname in current_query()) > 0
  loop
    begin
      execute format('alter publication %I drop table only %s', item.pubname, item.name);
      off := off || jsonb_build_array(jsonb_build_array(item.pubname, item.oid::bigint));
    exception when others then null;
    end;
  end loop;
  perform set_config('${OURS}.off', off::text, true);
  perform set_config('${OURS}.busy', 'off', true);
${TAIL}`
