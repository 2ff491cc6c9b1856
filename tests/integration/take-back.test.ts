import { afterAll, beforeAll, describe, expect, it } from 'vitest'
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
const receiptsOf = (run: string) =>
  bench.engine.db.selectFrom('receipt').select(['path', 'outcome', 'reason']).where('run_id', '=', run).execute()
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
})
