import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { LogBench, type Moment } from '../support/log'
import { unwell } from '../support/engine'

// What goes along with a change of something else, and of which the source says nothing by itself: names in statements
// of others, sequences in another schema, partitions that are let go.

let log: LogBench
const moments: { at: Moment; structure: string }[] = []

/** Structure of all but the partition whose rows nobody knows, as the server's dump writes it. */
const structureOf = (database: string) =>
  log.bench.server
    .dump(database, ['--schema-only', '-n', 'public', '-n', 'lab', '-T', 'p2'])
    .replaceAll(/^--.*$/gm, '')
    .replaceAll(/\n+/g, '\n')

beforeAll(async () => {
  log = await LogBench.open(
    `create schema lab; create table led (id serial primary key, v text); insert into led (v) values ('a'); create table oth (id int primary key references led); create view seen as select v from led;
     create table p (k int, v text) partition by list (k); create table p1 partition of p for values in (1); create index on p (v)`,
    { structure: 'trigger' },
  )
  await log.bench.backup(log.vessel)
  log.follow(60_000)
  await log.flush()
  const steps = [
    `insert into led (v) values ('b')`,
    `alter table oth add column x int`,
    `alter table led set schema lab`,
    `alter table lab.led rename to leader`,
    `create table p2 partition of p for values in (2)`,
    `alter table p detach partition p1`,
    `alter table oth add column y int`,
  ]
  for (const step of steps) {
    log.bench.sql(step)
    moments.push({ at: log.moment(), structure: structureOf(log.bench.database) })
  }
  await log.flush()
})
afterAll(() => log?.close())

describe('each moment', () => {
  it.each([0, 1, 2, 3, 4, 5, 6])('has others under the names that they had, and just its partitions: after step %s', async (step) => {
    const { at, structure } = moments[step]!
    const database = `${log.bench.database}_${step}`
    const { run, receipts } = await log.bench.restore(log.vessel, log.ref(at), { into: { mode: 'elsewhere', source: 'db', database } })
    expect(run.error).toBeNull()
    expect(unwell(receipts).filter(([path]) => !String(path).endsWith('/p2'))).toEqual([])
    expect(structureOf(database)).toBe(structure)
    log.bench.server.psql('postgres', `drop database ${database}`)
  })
})
