import { createPinia, setActivePinia } from 'pinia'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { nextTick } from 'vue'
import { wishOf } from '~~/core/restore/wish'
import { useWorkbench } from './workbench'

const thing = (path: string, kind: string, there = true) => ({ path, kind, name: path.split('/').at(-1), there })
const BOOKING = 'ferry-db/bookings/sales/booking'
const LEG = 'ferry-db/bookings/sales/booking_leg'
const PORT = 'ferry-db/bookings/ops/port'
const THINGS = [
  thing('ferry-db/bookings', 'database'),
  thing('ferry-db/bookings/sales', 'schema'),
  thing(BOOKING, 'table'),
  thing(LEG, 'table', false),
  thing('ferry-db/bookings/ops', 'schema'),
  thing(PORT, 'table'),
]

let asked: { url: string; body: unknown }[]
/** Plans that wait for their answer. */
let plans: ((answer: unknown) => void)[]
const answerOf = (agreed: string) => ({ databases: [], namespaces: [], agreed })
const planned = () => vi.advanceTimersByTimeAsync(250)

beforeEach(() => {
  vi.useFakeTimers()
  setActivePinia(createPinia())
  asked = []
  plans = []
  vi.stubGlobal('$fetch', (url: string, { body }: { body?: unknown } = {}) => {
    asked.push({ url, body })
    if (url.endsWith('/plan')) return new Promise((resolve) => plans.push(resolve))
    return Promise.resolve({ things: THINGS })
  })
})
afterEach(() => {
  vi.useRealTimers()
  vi.unstubAllGlobals()
})

async function opened(vessel = 'bookings', point = 'p1', anew = false) {
  const bench = useWorkbench()
  const close = bench.open(vessel, anew)
  bench.goTo(point)
  await vi.advanceTimersByTimeAsync(0)
  await nextTick()
  return { bench, close }
}

describe('the workbench', () => {
  it('names what is picked whole by its container, and the rest one by one', async () => {
    const { bench } = await opened()
    bench.toggle({ path: 'ferry-db/bookings/sales' })
    expect(bench.pickedPaths).toEqual(['ferry-db/bookings/sales'])
    expect([bench.stateOf({ path: 'ferry-db/bookings' }), bench.stateOf({ path: PORT })]).toEqual(['indeterminate', false])
    bench.pickAll([LEG], false)
    expect(bench.pickedPaths).toEqual([BOOKING])
    bench.toggle({ path: 'ferry-db/bookings' })
    expect(bench.wish?.picks).toEqual(['ferry-db/bookings'])
  })

  it('picks just what is gone, and knows that it did', async () => {
    const { bench } = await opened()
    bench.pickGone('ferry-db/bookings')
    expect([bench.pickedPaths, bench.isJustGone('ferry-db/bookings')]).toEqual([[LEG], true])
    bench.pickAll([PORT], true)
    expect(bench.isJustGone('ferry-db/bookings')).toBe(false)
  })

  it('takes a table for its rows, and no longer when there are none', async () => {
    const { bench } = await opened()
    bench.pickRows(BOOKING, { keys: [['7']], overwrite: null })
    expect(bench.wish?.rows).toEqual({ [BOOKING]: { keys: [['7']], overwrite: null } })
    bench.choices.mode = 'beside'
    // Beside the table come all of its rows.
    expect(bench.wish?.rows).toEqual({})
    bench.pickRows(BOOKING, { keys: [], overwrite: null })
    expect(bench.wish).toBeNull()
  })

  it('begins nothing by a plan of another wish: only the newest answer counts', async () => {
    const { bench } = await opened()
    bench.pickAll([BOOKING], true)
    await planned()
    bench.pickAll([PORT], true)
    await nextTick()
    expect(bench.planning).toBe(true)
    await planned()
    expect(plans).toHaveLength(2)
    plans[1]!(answerOf('second'))
    await vi.advanceTimersByTimeAsync(0)
    plans[0]!(answerOf('first'))
    await vi.advanceTimersByTimeAsync(0)
    expect([bench.agreed, bench.planning]).toEqual(['second', false])
  })

  it('takes over an earlier wish, into what is shown already', async () => {
    const { bench } = await opened()
    const { cluster } = bench.choices
    const { taken } = bench
    const into = { mode: 'scratch', source: 'ferry-db', hours: 24 } as const
    bench.take(wishOf({ picks: ['ferry-db/bookings/ops', 'ferry-db/gone'], into, cluster: { prefix: 'old-' }, keepDays: 3 }))
    expect([bench.pickedPaths, bench.wish?.into, bench.choices.keepDays]).toEqual([['ferry-db/bookings/ops'], into, 3])
    // Whoever shows the choices for clusters goes on writing into them, and is told to write its texts anew.
    expect([bench.choices.cluster === cluster, cluster.prefix, bench.taken > taken]).toEqual([true, 'old-', true])
  })

  it('keeps what was picked at another point, and not what was said of single things', async () => {
    const { bench } = await opened()
    bench.pickAll([BOOKING], true)
    bench.choices.each = { [BOOKING]: 'skip' }
    bench.choices.collide = 'merge'
    bench.goTo('p2')
    await vi.advanceTimersByTimeAsync(0)
    expect([bench.pickedPaths, bench.choices.each, bench.choices.collide]).toEqual([[BOOKING], {}, 'merge'])
  })

  describe('left and opened again', () => {
    async function leftWith(chosen: (bench: ReturnType<typeof useWorkbench>) => void) {
      const { bench, close } = await opened()
      bench.pickAll([BOOKING], true)
      bench.choices.collide = 'merge'
      chosen(bench)
      close()
      await nextTick()
      expect([bench.picks.size, bench.choices.collide, bench.things]).toEqual([0, 'replace', []])
    }
    const chosenNow = async (...how: Parameters<typeof opened>) => {
      const { bench } = await opened(...how)
      return [bench.pickedPaths, bench.choices.collide]
    }

    it('has what was chosen, at the same point of the same vessel', async () => {
      await leftWith(() => undefined)
      expect(await chosenNow('crew')).toEqual([[], 'replace'])
      expect(await chosenNow('bookings')).toEqual([[BOOKING], 'merge'])
    })

    it('has nothing at another point, where it was said otherwise, or when it was begun', async () => {
      await leftWith(() => undefined)
      expect(await chosenNow('bookings', 'p2')).toEqual([[], 'replace'])
      await leftWith(() => undefined)
      expect(await chosenNow('bookings', 'p1', true)).toEqual([[], 'replace'])
      await leftWith((bench) => bench.began())
      expect(await chosenNow()).toEqual([[], 'replace'])
    })

    it('is not closed by whoever had it open before', async () => {
      const { close } = await opened('crew')
      const { bench } = await opened('bookings')
      bench.pickAll([PORT], true)
      close()
      expect([bench.point, bench.pickedPaths]).toEqual(['p1', ['ferry-db/bookings/ops']])
    })
  })
})
