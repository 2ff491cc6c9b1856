import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { runDetail } from '../../engine/catalog/run-views'
import { takeBack } from '../../engine/runs/take-back'
import { Workbench } from '../support/engine'
import type { Vessel } from '../../engine/catalog/vessels'

// One click takes all of a restore back: what it overwrote, and what it made where nothing stood.

let bench: Workbench
let vessel: Vessel
let point: string
beforeAll(async () => {
  bench = await Workbench.open(
    `create table port (id int primary key, name text); insert into port values (1, 'Kiel'), (2, 'Oslo');
     create table berth (id int primary key, port int references port); insert into berth values (1, 1);
     create function twice(int) returns int language sql as 'select $1 * 2'; create view berths as select id, twice(id) from berth`,
  )
  vessel = await bench.vessel()
  point = await bench.backup(vessel)
})
afterAll(() => bench.close())

const is = (name: string) => bench.sql(`select to_regclass('${name}') is not null`) === 't'
const receiptsOf = (run: string, of = bench) =>
  of.engine.db.selectFrom('receipt').select(['path', 'outcome', 'reason']).where('run_id', '=', run).execute()
async function damageAndRestore() {
  bench.sql(`update port set name = 'Bergen' where id = 2; drop table if exists berth cascade; drop function if exists twice`)
  const { run } = await bench.restore(vessel, point, {})
  expect(run.state).toBe('done')
  return run.id
}

describe('a restore that is taken back', () => {
  it('takes away what it made where nothing stood, and that can be taken back in its turn, with the rows of since', async () => {
    const restored = await damageAndRestore()
    bench.sql('insert into berth values (2, 2)')
    const back = await bench.run('restore', vessel, { ...(await takeBack(bench.engine, restored)) })
    expect(back).toMatchObject({ state: 'done', error: null, outcome: { dropped: 3 } })
    expect([is('berth'), is('berths'), bench.sql(`select to_regproc('twice') is not null`), is('port')]).toEqual([false, false, 'f', true])
    expect(bench.sql('select name from port where id = 2')).toBe('Bergen')
    const again = await bench.run('restore', vessel, { ...(await takeBack(bench.engine, back.id)) })
    expect(again).toMatchObject({ state: 'done', error: null })
    expect(bench.sql('select id, port from berth order by id')).toBe('1|1\n2|2')
    expect(bench.sql('select * from berths order by id')).toBe('1|2\n2|4')
    expect(bench.sql('select name from port where id = 2')).toBe('Oslo')
  })

  it('leaves what something else needs by now, with all that it needs in its turn, and says so', async () => {
    const restored = await damageAndRestore()
    bench.sql('create view of_somebody as select * from berths')
    const back = await bench.run('restore', vessel, { ...(await takeBack(bench.engine, restored)) })
    expect(back).toMatchObject({ state: 'warned', error: null })
    const told = (await receiptsOf(back.id)).filter(({ outcome }) => outcome === 'left')
    expect(told.map(({ path }) => path.split('/').at(-1)).sort()).toEqual(['berth', 'berths', 'twice(integer)'])
    expect(told.find(({ path }) => path.endsWith('berths'))!.reason).toContain('view public.of_somebody needs it')
    expect(bench.sql('select * from of_somebody')).toBe('1|2')
    expect(bench.sql('select name from port where id = 2')).toBe('Bergen')
  })

  it('goes again where it only made what was missing, and overwrote nothing', async () => {
    bench.sql('drop table berth cascade')
    const { run } = await bench.restore(vessel, point, { picks: [bench.path('public', 'berth')] })
    expect([run.state, is('berth')]).toEqual(['done', true])
    expect((await runDetail(bench.engine, run.id)).canBeTakenBack).toBe(true)
    const back = await bench.run('restore', vessel, { ...(await takeBack(bench.engine, run.id)) })
    expect(back).toMatchObject({ state: 'done', error: null })
    expect([is('berth'), is('port')]).toEqual([false, true])
    // It kept what it dropped, and is taken back in its turn.
    const again = await bench.run('restore', vessel, { ...(await takeBack(bench.engine, back.id)) })
    expect([again.error, is('berth')]).toEqual([null, true])
    bench.sql('drop table berth cascade; drop function if exists twice')
  })

  it('takes back what is said and allowed of things, large objects and subscriptions, too', async () => {
    const workbench = await Workbench.open(
      `create table cargo (id int primary key); insert into cargo values (1); comment on schema public is 'said'; create function load() returns int language sql as 'select 1';
       create cast (text as money) with inout; comment on cast (text as money) is 'it''s'; create role "loader ${process.pid}"; grant execute on function load() to "loader ${process.pid}"; revoke execute on function load() from public;
       select lo_from_bytea(7001, 'one'), lo_from_bytea(7002, 'two'); create subscription inward connection 'host=127.0.0.1 port=1 dbname=none' publication p with (connect = false, slot_name = 'inward')`,
    )
    try {
      const full = await workbench.backup(await workbench.vessel())
      const dump = () => workbench.server.dump(workbench.database, []).replaceAll(/^\\(un)?restrict .*$/gm, '')
      workbench.sql(`alter subscription inward set (slot_name = none)`)
      workbench.sql(`drop subscription inward; delete from cargo; comment on cast (text as money) is null; revoke all on function load() from "loader ${process.pid}"; grant execute on function load() to public;
        select lo_unlink(7001), lo_put(7002, 0, 'TWO')`)
      const damaged = dump()
      const { run } = await workbench.restore(await workbench.vessel('Again'), full, {})
      expect(
        workbench.sql(
          `select count(*) from pg_subscription where subdbid = (select oid from pg_database where datname = current_database())`,
        ),
      ).toBe('1')
      expect(workbench.sql(`select convert_from(lo_get(7001), 'UTF8') || convert_from(lo_get(7002), 'UTF8')`)).toBe('onetwo')
      const back = await workbench.run('restore', await workbench.vessel('Back'), { ...(await takeBack(workbench.engine, run.id)) })
      expect(
        await receiptsOf(back.id, workbench).then((all) => all.filter(({ outcome }) => outcome === 'left' || outcome === 'failed')),
      ).toEqual([])
      expect(back).toMatchObject({ state: 'done', error: null })
      expect(dump()).toBe(damaged)
    } finally {
      workbench.sql('drop subscription if exists inward').toString()
      await workbench.close()
    }
  }, 120_000)
})
