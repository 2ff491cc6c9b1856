import { afterAll, describe, expect, it, vi } from 'vitest'
import { openPoint, noRows } from '../../engine/points/open'
import { LogBench, type Moment } from '../support/log'

// The structure is known as of each transaction, and rows that the log does not tell are never given out as if it did.

const benches: LogBench[] = []
async function followed(sql: string, structure: 'trigger' | 'compare'): Promise<LogBench> {
  const log = await LogBench.open(sql, { structure })
  benches.push(log)
  await log.bench.backup(log.vessel)
  log.follow(60_000)
  await log.flush()
  return log
}
/** A server lets ten followers in at a time. */
async function closeAll(): Promise<void> {
  for (const log of benches.splice(0)) await log.close()
}

/** Forms of statements that may change what a table holds without a word in the log, and some that only look like it. */
const FORMS: Record<string, { make?: string; columns?: string; fill?: string; act: string; holds?: true }> = {
  'type by an expression, the same type': { act: `alter table T alter v type text using upper(v)` },
  'type to another': { act: `alter table T alter n type bigint using n * 2` },
  'type with an expression to varchar': { act: `alter table T alter v type varchar(30) using left(v, 2)` },
  'shorter varchar': { columns: 'v varchar(20), n int', act: `alter table T alter v type varchar(3) using left(v, 3)` },
  'longer varchar': { columns: 'v varchar(20), n int', act: `alter table T alter v type varchar(40)`, holds: true },
  'other scale of a numeric': { columns: 'v text, n numeric(10, 2)', act: `alter table T alter n type numeric(10, 4)` },
  'wider numeric': { columns: 'v text, n numeric(10, 2)', act: `alter table T alter n type numeric(14, 2)`, holds: true },
  'other precision of a timestamp': {
    columns: `v text, n int, t timestamp(6) default '2026-01-01 10:00:00.123456'`,
    act: `alter table T alter t type timestamp(0)`,
  },
  'collation alone': { act: `alter table T alter v type text collate "C"`, holds: true },
  'integer to oid': { act: `alter table T alter n type oid using n::oid` },
  'default reckoned for each row': { act: `alter table T add column stamp timestamptz default clock_timestamp()` },
  'constant default': { act: `alter table T add column flag text default 'x'`, holds: true },
  'identity added': { act: `alter table T add column serial bigint generated always as identity` },
  'generated column added': { act: `alter table T add column twice int generated always as (n * 2) stored`, holds: true },
  'generated column becomes a plain one': {
    columns: 'v text, n int, twice int generated always as (n * 2) stored',
    fill: `insert into T (id, v, n) select g, 'v' || g, g from generate_series(1, 20) g`,
    act: `alter table T alter twice drop expression`,
  },
  'label of an enum renamed': {
    make: `create type TE as enum ('a', 'b')`,
    columns: `v text, n int, e TE default 'a'`,
    act: `alter type TE rename value 'a' to 'z'`,
  },
  'label of an enum in an array in a domain': {
    make: `create type TE as enum ('a', 'b'); create domain TD as TE[]`,
    columns: `v text, n int, e TD default '{a,b}'`,
    act: `alter type TE rename value 'b' to 'y'`,
  },
  'label of an enum added': {
    make: `create type TE as enum ('a', 'b')`,
    columns: `v text, n int, e TE default 'a'`,
    act: `alter type TE add value 'c' before 'b'`,
    holds: true,
  },
  'enum renamed': {
    make: `create type TE as enum ('a', 'b')`,
    columns: `v text, n int, e TE default 'a'`,
    act: `alter type TE rename to TEE`,
  },
  'attribute of a composite type dropped': {
    make: `create type TC as (x int, y text)`,
    columns: `v text, n int, c TC default '(1,b)'`,
    act: `alter type TC drop attribute y`,
  },
  'attribute of a composite type added': {
    make: `create type TC as (x int, y text)`,
    columns: `v text, n int, c TC default '(1,b)'`,
    act: `alter type TC add attribute z int`,
  },
  'column dropped from a table whose rows another one holds': {
    make: `create table TR (a int, b int, c int)`,
    columns: `v text, n int, c TR default '(1,2,3)'`,
    act: `alter table TR drop column b`,
  },
  'domain gets a constraint': {
    make: `create domain TD as int`,
    columns: `v text, n TD`,
    act: `alter domain TD add constraint positive check (value > 0)`,
    holds: true,
  },
  'access method': {
    make: `do $$ begin if not exists (select from pg_am where amname = 'heap2') then create access method heap2 type table handler heap_tableam_handler; end if; end $$`,
    act: `alter table T set access method heap2`,
    holds: true,
  },
  'unlogged and logged again': {
    act: `alter table T set unlogged; update T set v = 'unseen' where id = 2; alter table T set logged`,
  },
  'vacuum full': { act: `vacuum full T`, holds: true },
  cluster: { act: `cluster T using T_pkey`, holds: true },
  'truncate and fill again': { act: `truncate T; insert into T (id, v) values (7, 'again')`, holds: true },
  'key changed to another column': {
    act: `update T set n = id; alter table T alter n set not null, drop constraint T_pkey, add primary key (n)`,
  },
  'identity by an index, and back': {
    act: `update T set n = id; alter table T alter n set not null; create unique index T_n on T (n); alter table T replica identity using index T_n`,
  },
  'whole rows as identity': { act: `alter table T replica identity full` },
  'column dropped and made again': { act: `alter table T drop column v; alter table T add column v text default 'new'`, holds: true },
  'columns renamed crosswise': {
    columns: 'v text, n text',
    act: `begin; alter table T rename v to w; alter table T rename n to v; alter table T rename w to n; commit`,
    holds: true,
  },
  'table renamed and moved': {
    act: `create schema if not exists aside; alter table T rename to T_x; alter table T_x set schema aside; alter table aside.T_x set schema public; alter table T_x rename to T`,
    holds: true,
  },
  'storage, statistics, defaults, checks': {
    act: `alter table T alter v set storage external, alter n set statistics 10, alter n set default 4, add check (id > 0), alter v set compression pglz`,
    holds: true,
  },
  'column without default, not null, owner, comment, options': {
    act: `alter table T add column w int; alter table T alter v set not null; comment on table T is 'x'; alter table T set (fillfactor = 70)`,
    holds: true,
  },
}

describe.each(['trigger', 'compare'] as const)('rows after a change of structure, noticed by %s', (structure) => {
  afterAll(closeAll)
  // The server refuses to make a published table unlogged; only the trigger can take it off before, which readiness tells.
  const names = Object.keys(FORMS).filter((name) => structure === 'trigger' || !name.startsWith('unlogged'))
  const tableOf = (i: number) => `t${i}`
  const text = (i: number, sql: string) => sql.replaceAll(/\bT(?=\b|_|E|D|C|R)/g, tableOf(i))
  let log: LogBench
  const moments: { before: Moment; after: Moment }[] = []

  it('are as they were, or are told not to be known', async () => {
    const made = names.map((name, i) => {
      const {
        make,
        columns = 'v text, n int',
        fill = `insert into T (id, v) select g, 'v' || g from generate_series(1, 20) g`,
      } = FORMS[name]!
      return text(i, `${make ?? ''}; create table T (id int primary key, ${columns}); ${fill};`)
    })
    log = await followed(made.join('\n'), structure)
    for (const [i, name] of names.entries()) {
      const before = log.moment(`public.${tableOf(i)}`)
      log.bench.sql(text(i, FORMS[name]!.act))
      // A look goes on for a second where the source tells nothing.
      if (structure === 'compare') await new Promise((resolve) => setTimeout(resolve, 50))
      moments.push({ before, after: log.moment(`public.${tableOf(i)}`) })
    }
    if (structure === 'compare') await new Promise((resolve) => setTimeout(resolve, 4000))
    for (const [i] of names.entries()) log.bench.sql(text(i, `update T set id = id + 1000 where id % 7 = 0`))
    const later = log.moment(...names.map((_, i) => `public.${tableOf(i)}`))
    await vi.waitFor(async () => expect(log.supervisor).not.toBeNull())
    await log.flush()
    const wrong: string[] = []
    const needless: string[] = []
    for (const [i, name] of names.entries()) {
      const table = `public.${tableOf(i)}`
      for (const [when, moment, must] of [
        ['before', moments[i]!.before, true],
        ['after', moments[i]!.after, FORMS[name]!.holds],
        ['later', later, FORMS[name]!.holds],
      ] as const) {
        const rows = await log.rowsAt(log.ref(moment), table).catch((error: Error) => error)
        if (rows instanceof Error) {
          expect(rows.message).toMatch(/not known/)
          if (must && structure === 'trigger') needless.push(`${name}, ${when}: ${rows.message}`)
        } else if (JSON.stringify(rows) !== JSON.stringify(moment.tables[table]) && !(await log.isTold(moment, table)))
          wrong.push(`${name}, ${when}: ${rows[0]} for ${moment.tables[table]![0]}`)
      }
    }
    expect(wrong).toEqual([])
    expect(needless).toEqual([])
  }, 240_000)

  it('are known again once the table was read whole, which begins by itself', async () => {
    const holes = Object.values((await log.row()).tables).filter(({ hole }) => hole)
    expect(holes.length).toBeGreaterThan(10)
    await log.bench.backup(log.vessel, 'differential')
    log.bench.sql(names.map((_, i) => text(i, `delete from T where id = (select min(id) from T)`)).join(';'))
    const now = log.moment(...names.map((_, i) => `public.${tableOf(i)}`))
    await log.flush()
    await log.holds(now)
  }, 240_000)
})

describe('two changes of structure that follow each other closely', () => {
  afterAll(closeAll)
  const tablesAt = async (log: LogBench, moment: { position: string }) => {
    const { manifest } = (await openPoint(log.bench.engine, log.ref(moment), noRows)).members[0]!
    const { tables, entries } = manifest.databases[0]!
    return { tables: tables.map(({ name, columns }) => `${name}(${columns.join()})`).sort(), entries }
  }
  const columnsNow = (log: LogBench) =>
    log.bench
      .sql(
        `select c.relname || '(' || coalesce(string_agg(a.attname, ',' order by a.attnum), '') || ')' from pg_class c left join pg_attribute a on a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped
         where c.relkind = 'r' and c.relnamespace = 'public'::regnamespace group by c.oid, c.relname order by 1`,
      )
      .split('\n')
      .filter(Boolean)
      .sort()

  it('leave everything that stood between them, just before a table or a column was dropped', async () => {
    const log = await followed(
      `create table f (id int primary key); create table h (id int primary key, v text); insert into h values (1, 'kept'); create index h_v on h (v);
       create table d (id int primary key, w text); insert into d values (1, 'worth'); create view over_h as select * from h`,
      'trigger',
    )
    log.bench.sql('alter table f add n int')
    const before = log.moment('public.h', 'public.d')
    log.bench.sql('drop table h cascade; alter table d drop column w')
    await log.flush()
    await log.holds(before)
    const { receipts } = await log.bench.restore(log.vessel, log.ref(before), {
      picks: [log.bench.path('public', 'h'), log.bench.path('public', 'over_h'), log.bench.path('public', 'd')],
    })
    expect(receipts.map(({ outcome, equal }) => [outcome, equal])).not.toContainEqual(['failed', null])
    expect(log.rows('h')).toEqual(before.tables['public.h'])
    expect(log.rows('d')).toEqual(before.tables['public.d'])
    expect(log.bench.sql(`select count(*) from over_h`)).toBe('1')
    expect(log.bench.sql(`select indexname from pg_indexes where tablename = 'h' order by 1`).split('\n')).toEqual(['h_pkey', 'h_v'])
  })

  it('give a table back as it was, though it was altered just before it was dropped, and nobody read it in between', async () => {
    const log = await followed(
      `create type mood as enum ('calm', 'rough'); create table port (id int primary key);
       create table h (id serial primary key, v text default 'none', was text check (was <> ''), n int generated always as identity);
       insert into h (v) values ('kept'); create index h_v on h (v); comment on table h is 'then'; create view over_h as select id from h;
       create function noisy() returns trigger language plpgsql as $$ begin return new; end $$`,
      'trigger',
    )
    const { bench } = log
    const dump = (database: string, table: string) =>
      bench.server
        .dump(database, ['--schema-only', '-t', table])
        .replaceAll(/^--.*$/gm, '')
        .replaceAll(/\n+/g, '\n')
    const rows = (database: string, table: string) => bench.server.psql(database, `copy (select * from ${table} order by 1) to stdout`)
    const moments = [
      `alter table h add column m mood default 'rough' not null, add check (id > 0), add column d numeric(6, 2) default 1.5`,
      `alter table h rename column v to w; create unique index h_w on h (w) where id > 1; comment on column h.w is 'it''s'; grant select, update on h to public`,
      `alter table h drop column was; alter table h enable row level security; create policy mine on h as restrictive for update using (id > 1) with check (id < 9)`,
      `create trigger t after insert on h for each row when (new.id > 5) execute function noisy(); alter table h disable trigger t; alter table h replica identity full`,
      `create table brief (id int primary key, port int references port, x text[] default '{}'); insert into port values (1); insert into brief values (1, 1, '{a}')`,
      `alter table h add foreign key (id) references brief deferrable; alter table h set (fillfactor = 60); alter table h alter w set default 'x'`,
    ].map((sql) => {
      bench.sql(sql)
      const tables = ['h', 'brief', 'port'].filter((table) => bench.sql(`select to_regclass('${table}')`) !== '')
      return { position: log.position(), tables: tables.map((table) => [table, dump(bench.database, table), rows(bench.database, table)]) }
    })
    bench.sql('drop table brief cascade; drop table h cascade; drop type mood')
    await log.flush()
    for (const [i, moment] of moments.entries()) {
      const database = `${bench.database}_${i}`
      const { run, receipts } = await bench.restore(log.vessel, log.ref(moment), { into: { mode: 'elsewhere', source: 'db', database } })
      expect(run.error).toBeNull()
      const found = moment.tables.map(([table]) => [table, dump(database, table!), rows(database, table!)])
      expect([i, found]).toEqual([i, moment.tables])
      const unwell = receipts.filter(({ outcome, equal, left_parts: left }) => outcome === 'failed' || equal === false || left.length > 0)
      expect([i, unwell.map(({ path, reason, left_parts: left }) => [path, reason, left])]).toEqual([i, []])
      bench.server.psql('postgres', `drop database ${database}`)
    }
  }, 240_000)

  it.each([0, 50, 300])(
    'have just the tables, columns and rows of each moment, in a migration with %s ms between its statements',
    async (pace) => {
      const log = await followed(
        `create table base (id int primary key, v text); insert into base select g, 'b' from generate_series(1, 5) g`,
        'trigger',
      )
      const steps = Array.from({ length: pace === 300 ? 20 : 60 }, (_, i) => {
        const t = `m${i % 5}`
        return [
          `create table ${t} (id int primary key, a text); insert into ${t} values (1, '${i}')`,
          `alter table ${t} add column c${i} int default ${i}; update ${t} set a = 'x${i}'`,
          `alter table ${t} rename column a to a${i}; insert into ${t} (id) values (${i + 10})`,
          `begin; alter table base add column n${i} int; update base set n${i} = ${i}; alter table base drop column n${i}; commit`,
          `drop table ${t}`,
        ][Math.floor(i / 5) % 5]!
      })
      const moments: { position: string; tables: string[]; base: string[] }[] = []
      for (const step of steps) {
        log.bench.sql(step)
        moments.push({ position: log.position(), tables: columnsNow(log), base: log.rows('base') })
        if (pace > 0) await new Promise((resolve) => setTimeout(resolve, pace))
      }
      await log.flush()
      for (const [i, moment] of moments.entries()) {
        expect([i, (await tablesAt(log, moment)).tables]).toEqual([i, moment.tables])
        expect([i, await log.rowsAt(log.ref(moment), 'public.base')]).toEqual([i, moment.base])
      }
    },
    240_000,
  )
})

describe('sequences at a moment', () => {
  afterAll(closeAll)
  it('are never behind what the source would have given, and told when they may be ahead or were set back', async () => {
    const log = await followed(
      `create sequence s; create sequence down increment by -1; create table owner (id serial primary key); insert into owner select from generate_series(1, 3); create table tick (id int primary key)`,
      'trigger',
    )
    const { bench } = log
    const pause = () => new Promise((resolve) => setTimeout(resolve, 1200))
    const next = (ref: string) => async () => {
      const { manifest } = (await openPoint(bench.engine, ref, noRows)).members[0]!
      const { sequences, missing } = manifest.databases[0]!
      return {
        of: Object.fromEntries(sequences.map(({ name, last, called }) => [name, called ? Number(last) : 0])),
        told: missing.map(({ reason }) => reason).join(' '),
      }
    }
    bench.sql(
      `select nextval('s') from generate_series(1, 100); select nextval('down') from generate_series(1, 50); insert into tick values (1)`,
    )
    await pause()
    const moved = log.moment()
    await pause()
    bench.sql(`select setval('s', 1, false); alter sequence down restart; truncate owner restart identity; insert into tick values (2)`)
    await pause()
    const reset = log.moment()
    bench.sql(`select nextval('s') from generate_series(1, 7); insert into tick values (3); drop table owner; drop sequence s`)
    await log.flush()
    const first = await next(log.ref(moved))()
    expect(first.of).toEqual({ s: 100, down: -50, owner_id_seq: 3 })
    expect(first.told).toContain('set back')
    const second = await next(log.ref(reset))()
    expect(second.of.down).toBe(0)
    expect(second.of.owner_id_seq).toBe(0)
    expect(second.of.s).toBeGreaterThanOrEqual(0)
    const database = `${bench.database}_seq`
    const { receipts } = await bench.restore(log.vessel, log.ref(moved), { into: { mode: 'elsewhere', source: 'db', database } })
    expect(receipts.filter(({ outcome, equal }) => outcome === 'failed' || equal === false)).toEqual([])
    expect(bench.server.psql(database, `select nextval('s'), nextval('down'), nextval('owner_id_seq')`)).toBe('101|-51|4')
    bench.server.psql('postgres', `drop database ${database}`)
  }, 150_000)

  it('are known where nothing else happens at the source', async () => {
    const log = await followed(`create sequence s; create table tick (id int primary key)`, 'trigger')
    log.bench.sql(`select nextval('s') from generate_series(1, 30)`)
    await vi.waitFor(
      async () => {
        const { manifest } = (await openPoint(log.bench.engine, log.ref({ position: await log.flush() }), noRows)).members[0]!
        expect(manifest.databases[0]!.sequences).toMatchObject([{ name: 's', last: '30' }])
      },
      { timeout: 30_000, interval: 500 },
    )
  }, 150_000)
})

describe('what is not exactly as it was at a moment', () => {
  afterAll(closeAll)
  it('stands in the list of what is at a moment, in the plan and in the receipt, with the reason; nothing is missing without a word', async () => {
    const log = await followed(
      `create table whole (id int primary key, v text); insert into whole values (1, 'a'); create table keyless (x int); insert into keyless values (1), (2);
       create table counted (id int primary key, n int); insert into counted values (1, 7); create unlogged table quick (id int primary key); select lo_from_bytea(7001, 'x')`,
      'trigger',
    )
    const { bench } = log
    bench.sql(
      `create table later as select 1 as x; insert into keyless values (3); alter table counted alter n type bigint; drop table if exists never`,
    )
    const moment = log.moment()
    await log.flush()
    const { pointContents } = await import('../../engine/compare/contents')
    const { unsureAt } = await import('../../engine/log/unsure')
    const { readRef } = await import('../../core/chain/moment-ref')
    const ref = log.ref(moment)
    const { things } = await pointContents(bench.engine, ref)
    const byName = new Map(things.map((thing) => [thing.name, thing]))
    expect(byName.get('later')!.unknown).toContain('not known')
    expect(byName.get('counted')!.unknown).toContain('type of its column n')
    expect(byName.get('keyless')!.asOf).toContain('as of')
    expect(byName.get('large objects')!.asOf).toContain('in no log')
    expect(byName.get('whole')).not.toHaveProperty('unknown')
    const unsure = async () => (await unsureAt(bench.engine, ref, readRef(ref)!)).map(({ path }) => path.split('/').at(-1)).sort()
    // Until the structure was read after the change, that is told of it too.
    await vi.waitFor(async () => expect(await unsure()).toEqual(['counted', 'keyless', 'large objects', 'later', 'quick'].sort()), {
      timeout: 60_000,
      interval: 200,
    })
    const database = `${bench.database}_unsure`
    const { run, receipts } = await bench.restore(log.vessel, ref, { into: { mode: 'elsewhere', source: 'db', database } })
    expect(run.state).toBe('warned')
    const said = new Map(receipts.map(({ path, outcome, reason, equal }) => [path.split('/').at(-1), [outcome, reason, equal] as const]))
    expect(said.get('later')).toEqual(['left', expect.stringContaining('not known'), null])
    expect(said.get('counted')).toEqual(['left', expect.stringContaining('type of its column n'), null])
    expect(said.get('keyless')![1]).toContain('Its rows are as of')
    expect(said.get('large objects')![1]).toContain('in no log')
    expect(said.get('whole')).toEqual(['made', null, true])
    bench.server.psql('postgres', `drop database ${database}`)
  }, 150_000)
})
