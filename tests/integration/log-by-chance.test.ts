import { describe, expect, it } from 'vitest'
import { Random } from '../../soak/random'
import { BEGINNING, Chance } from '../support/chance'
import { LogBench } from '../support/log'

// Every moment of a log is as it was, or it is told what is not, whatever was done. CHANCE_SEED tries another.

const SEED = Number(process.env.CHANCE_SEED ?? 7)
const STEPS = Number(process.env.CHANCE_STEPS ?? 20)

describe.each(['trigger', 'compare'] as const)('statements at random, noticed by %s', (structure) => {
  it(`are followed, with seed ${SEED}`, { timeout: 600_000 }, async () => {
    const log = await LogBench.open(BEGINNING, { structure })
    const chance = await Chance.open(log, new Random(SEED))
    try {
      await log.bench.backup(log.vessel)
      log.follow(60_000)
      await log.flush()
      for (let step = 0; step < STEPS; step++) await chance.step()
      await chance.close()
      // What was done last is looked at, and read.
      for (const table of ['last', 'very_last']) {
        log.bench.sql(`create table ${table} (id int primary key); insert into ${table} values (1)`)
        await log.bench.backup(log.vessel, 'incremental')
        await log.flush()
      }
      expect(chance.truths.length).toBeGreaterThan(STEPS / 2)
      expect(await chance.lies()).toEqual([])
    } finally {
      await log.close()
    }
  })
})
