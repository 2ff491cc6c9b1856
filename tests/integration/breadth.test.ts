import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { changesOf, closeBreadth, dropWhole, loadedTwin, openBreadth, wholeOf, type Breadth } from '../support/breadth'
import { takeBack } from '../../engine/runs/take-back'
import { unwell } from '../support/engine'

// Everything that CREATE and ALTER can make: what comes back is what was there, by the server's dump, row by row,
// and by its catalogs.

let all: Breadth
let { bench, vessel, point, before: before, dumped } = {} as Breadth

beforeAll(async () => {
  all = await openBreadth()
  ;({ bench, vessel, point, before: before, dumped } = all)
})
afterAll(async () => {
  await closeBreadth(all)
})

/** What somebody did to it, without dropping anything that the server's own dump could not restore as it was. */
const DAMAGE = {
  'owners, rights and comments of all that is no table': `
    do $$ declare statement text; begin for statement in
      select format('alter schema %I owner to sky_guest', nspname) from pg_namespace where nspname in ('sky', 'lab', 'law', 'public', 'Mixed. "Case"')
      union all select format('alter routine %s owner to sky_guest', p.oid::regprocedure) from pg_proc p join pg_namespace n on n.oid = pronamespace where nspname in ('sky', 'lab', 'law') and prokind <> 'a' and not exists (select from pg_depend where objid = p.oid and deptype in ('e', 'i'))
      union all select format('grant all on %s %s to sky_guest with grant option', case prokind when 'p' then 'procedure' else 'function' end, p.oid::regprocedure) from pg_proc p join pg_namespace n on n.oid = pronamespace where nspname = 'sky' and prokind <> 'a' and not exists (select from pg_depend where objid = p.oid and deptype in ('e', 'i'))
      union all select format('comment on function %s is %L', p.oid::regprocedure, 'theirs') from pg_proc p join pg_namespace n on n.oid = pronamespace where nspname = 'sky' and prokind = 'f' and not exists (select from pg_depend where objid = p.oid and deptype in ('e', 'i'))
      union all select format('alter type %s owner to sky_guest', t.oid::regtype) from pg_type t join pg_namespace n on n.oid = typnamespace left join pg_class c on c.oid = typrelid where nspname in ('sky', 'lab') and (c.relkind is null or c.relkind = 'c') and typtype in ('e', 'c', 'd', 'r') and not exists (select from pg_depend where objid = t.oid and deptype in ('e', 'i'))
      union all select format('grant all on %s %s to public', case when typtype = 'd' then 'domain' else 'type' end, t.oid::regtype) from pg_type t join pg_namespace n on n.oid = typnamespace left join pg_class c on c.oid = typrelid where nspname = 'sky' and (c.relkind is null or c.relkind = 'c') and typtype in ('e', 'c', 'd', 'r')
      union all select format('alter view %s owner to sky_guest', oid::regclass) from pg_class where relkind = 'v' and relnamespace::regnamespace::text in ('sky', 'law') and relname !~ '^pg_'
      union all select format('grant all on %s to sky_guest with grant option', oid::regclass) from pg_class where relkind in ('v', 'm', 'f') and relnamespace::regnamespace::text in ('sky', 'law', 'lab') and relname !~ '^pg_'
      union all select format('grant all on sequence %s to public', oid::regclass) from pg_class where relkind = 'S' and relnamespace::regnamespace::text in ('sky', 'office')
      union all select format('comment on sequence %s is %L', oid::regclass, 'theirs') from pg_class where relkind = 'S' and relnamespace::regnamespace::text in ('sky', 'office')
    loop if statement is not null then execute statement; end if; end loop; end $$;
    comment on schema lab is null; comment on domain lab.word is null; comment on constraint word_check on domain lab.word is 'other'; comment on column sky.bright.name is null; comment on column sky.spot.ra is 'other'; comment on view law.titles is 'new'; comment on extension isn is 'other';
    alter collation lab.loose owner to sky_guest; alter operator lab.< (lab.ticks, lab.ticks) owner to sky_guest; alter operator lab.= (lab.ticks, int) owner to sky_guest; alter operator class lab.ticks_order using btree owner to sky_guest; alter conversion lab.from_west owner to sky_guest; alter text search configuration sky.copy owner to sky_guest; alter text search dictionary lab.dict owner to sky_guest; alter language lab_pl owner to sky_guest; grant usage on language easy_pl to public;
    comment on operator lab.!# (none, lab.ticks) is null; comment on cast (lab.ticks as text) is null; comment on access method heap_two is null; comment on transform for lab.ticks language lab_pl is 'x'; comment on conversion lab.from_west is null; comment on text search parser lab.reader is null;
    alter foreign data wrapper bare_fdw owner to postgres; grant usage on foreign data wrapper bare_fdw to sky_guest; comment on foreign data wrapper bare_fdw is null; grant usage on foreign server far to public; revoke usage on foreign server far from sky_clerk; alter foreign table lab.far_child owner to sky_guest; grant execute on function law.pg_stat_statements_reset to sky_guest; revoke select (id) on sky.far_away from sky_reader;
    alter publication hollow owner to postgres; comment on publication picked is null; comment on subscription inward is null; comment on event trigger watcher is null; grant select on pg_catalog.pg_stats to public; grant execute on function pg_catalog.pg_sleep(float8) to public; revoke execute on function law.crosstab(text) from sky_reader; grant usage on language plpgsql to public;
    alter default privileges revoke select on tables from sky_reader; alter default privileges in schema sky grant execute on functions to public; alter default privileges for role sky_owner grant execute on functions to public; alter default privileges for role sky_owner in schema lab revoke usage on types from sky_clerk; alter default privileges in schema parts grant select on tables to sky_guest;
    alter default privileges in schema parts revoke select on tables from sky_guest; alter large object 81002 owner to sky_guest; comment on large object 81001 is null; revoke select on large object 81001 from sky_reader; grant select on large object 81002 to public`,
  'definitions of what is no table': `
    alter domain lab.hours add constraint other check (not isempty(value)); alter domain lab.hours drop default; alter domain sky.mag set default 5; alter type sky.band rename value 'radio' to 'Radio 2';
    create or replace function sky.atomic(n int) returns int language sql as 'select 0'; create or replace view sky.of_system as select oid, relname from pg_class where false; alter view sky.local_only reset (check_option); alter view sky.brighter set (security_barrier = false); alter view sky.bright alter name drop default; create rule more as on insert to law.over_grouped do instead nothing; drop trigger in_place on sky.grouped;
    drop index sky.per_band_key; create index fresh on sky.over_band (band); alter sequence sky.numbers increment by 5 minvalue -500 no cycle cache 1; alter sequence lab.shared as int maxvalue 77; alter sequence sky.shot_shot_id_seq increment by 9; alter table sky.scope alter scope_id set increment by 3 set generated by default; select setval('sky.numbers', 3), setval('lab.shared', 9), setval('office.ledger_3_id_seq', 2);
    drop operator lab.!# (none, lab.ticks); drop cast (sky.spot as text); drop conversion sky.from_west; create conversion sky.from_west for 'LATIN2' to 'UTF8' from iso8859_to_utf8; alter text search configuration lab.search drop mapping for int; alter text search dictionary lab.dict (accept = true); drop user mapping for public server far; alter user mapping for sky_clerk server far options (add user 'u'); drop function sky.rows_of cascade; drop aggregate lab.total(numeric); drop procedure sky.out_of;
    alter publication picked set (publish = 'delete'); alter publication picked drop table parts.reading; alter publication by_schema drop tables in schema law; alter publication whole set (publish_via_partition_root = false); drop publication hollow; alter event trigger sleeper enable; drop event trigger rewriter; alter foreign table sky.far_away alter id options (set column_name 'other'); alter foreign table sky.far_away enable trigger on_far;
    drop materialized view lab.not_yet; refresh materialized view sky.per_band; drop view law.chain; drop text search template lab.model cascade; drop transform for lab.ticks language lab_pl cascade`,
  'rows, keys and everything of tables': `
    alter type sky.band add value 'gamma burst' before 'radio'; alter table law.chicken add column laid_since int;
    set session_replication_role = replica; delete from sky.shot where shot_id % 3 = 0; update sky.every_type set t = 'bad', n = 5; truncate sky.wide_row, lab.no_key, parts.by_list_ab; delete from parts.by_hash where id < 30; update parts.reading set note = 'x' where station = 3; delete from only lab.ancestor; insert into sky.nothing_in default values; delete from law.clause; delete from office.person where id % 7 = 0; update office.ledger_9 set amount = 0; select lo_unlink(81001); select lo_put(81002, 3, 'x'); reset session_replication_role;
    alter table sky.night drop constraint night_pkey cascade; alter table sky.scope rename column made to made_up; alter table sky.same drop column rows_too; alter table law.half drop constraint half_a_fkey; alter table lab.reordered add column new int; alter table law.chicken add column feathers int; alter table law.unchecked validate constraint to_clause`.replace(
    '; alter table law.unchecked validate constraint to_clause',
    '',
  ),
}

/** The server puts inherited columns first when it makes a table, in its own dump and load too; that is told. */
const INHERITED = [
  ...['adopted', 'child', 'grandchild'].map((table) => [table, 'made', 'Its structure is not as it was then: order of columns differs.']),
  ['structure as a whole', 'compared', expect.stringMatching(/^1 of \d+ statements/)],
]
const inShort = ([path, outcome, reason]: unknown[]) => [String(path).split('/').at(-1), outcome, reason]

describe('a database with everything that can be made', () => {
  it('is judged when it is backed up: nothing of it is known not to come back', async () => {
    const { missing } = await bench.engine.db.selectFrom('point').select('missing').where('id', '=', point).executeTakeFirstOrThrow()
    const judged = missing.filter(({ reason }) => !reason.startsWith('Its rows are on another server'))
    expect(judged).toEqual([])
  })

  it('comes back whole, under another name', async () => {
    const database = `${bench.database}_twin`
    const { run, receipts } = await bench.restore(vessel, point, { into: { mode: 'elsewhere', source: 'db', database } })
    expect(run.error).toBeNull()
    expect(unwell(receipts).map(inShort)).toEqual(INHERITED)
    expect(changesOf(database, before, dumped)).toEqual({})
    expect(run.state).toBe('warned')
    dropWhole(database)
  })

  it.each(Object.entries(DAMAGE))('is as it was again, in place: %s', async (_, damage) => {
    bench.sql(`set client_min_messages = error; ${damage}`)
    const { run, receipts } = await bench.restore(vessel, point, {})
    expect(run.error).toBeNull()
    expect.soft(unwell(receipts)).toEqual([])
    expect(changesOf(bench.database, before, dumped)).toEqual({})
    expect(run.state).toBe('done')
  })

  it.each([
    ['by schema', 'drop schema parts cascade; drop schema office cascade', ['parts', 'office']],
    ['by table, with what hung on it', 'drop table sky.scope cascade', ['sky/scope', 'sky/same', 'sky/user', 'sky/shot', 'sky/every_type']],
  ])('is as it was again after a part of it was dropped: %s', async (_, damage, picks) => {
    bench.sql(`set client_min_messages = error; ${damage}`)
    const { run, receipts } = await bench.restore(vessel, point, { picks: picks.map((pick) => bench.path(...pick.split('/'))) })
    expect(run.error).toBeNull()
    expect.soft(unwell(receipts)).toEqual([])
    expect(changesOf(bench.database, before, dumped)).toEqual({})
    expect(run.state).toBe('done')
  })

  it('can be taken back as a whole, and is as it was before that restore', async () => {
    const rows = `delete from sky.shot where shot_id % 3 = 0; update sky.every_type set t = 'bad', n = 5; truncate sky.wide_row, lab.no_key; delete from parts.by_hash where id < 30; update parts.reading set note = 'x' where station = 3; update office.ledger_9 set amount = 0;
      select lo_put(81002, 3, 'x'), setval('sky.numbers', 3), setval('office.ledger_3_id_seq', 2); alter table sky.shot rename column took to taken_up; alter table sky.same drop column rows_too; alter table law.half drop constraint half_a_fkey; alter table lab.reordered add column new int; create or replace view sky.of_system as select oid, relname from pg_class where false;
      alter table law.sorted drop constraint sorted_pkey; alter sequence lab.shared as int maxvalue 77; alter publication picked set (publish = 'delete'); drop policy one on law.clause; create policy newer on law.clause using (true);
      do $$ begin execute format('alter database %I owner to sky_guest', current_database()); execute format('alter database %I set work_mem = %L', current_database(), '9MB'); execute format('alter database %I reset search_path', current_database()); execute format('comment on database %I is null', current_database()); execute format('grant connect on database %I to sky_guest', current_database()); end $$`
    // What the damage took away is made anew by the restore, and goes again when that is taken back.
    const gone = 'drop schema parts cascade; drop table sky.scope cascade; drop schema lab cascade'
    bench.sql(`set client_min_messages = error; ${Object.values(DAMAGE)[0]!}; ${rows}; ${gone}`)
    const [damaged, itsDump] = [wholeOf(bench.database), loadedTwin(bench.database)]
    const { run, receipts } = await bench.restore(vessel, point, {})
    expect(run.error).toBeNull()
    expect(unwell(receipts).map(inShort)).toEqual(INHERITED)
    expect(changesOf(bench.database, before, dumped)).toEqual({})
    const back = await bench.run('restore', vessel, { ...(await takeBack(bench.engine, run.id)) })
    expect(back.error).toBeNull()
    const told = await bench.engine.db.selectFrom('receipt').selectAll().where('run_id', '=', back.id).execute()
    expect.soft(unwell(told)).toEqual([])
    expect(changesOf(bench.database, damaged, itsDump)).toEqual({})
  })
})
