// @vitest-environment happy-dom
import { mount } from '@vue/test-utils'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { defineComponent, nextTick, ref, shallowRef, type Ref } from 'vue'
import type { PointThing } from '~~/server/views'
import type { FromTree, ToTree } from '~/workers/tree'
import { useSeenThings } from './useSeenThings'

/** What looks through many things beside the page, as the test lets it answer. */
class Beside {
  static all: Beside[] = []
  readonly told: ToTree[] = []
  ended = false
  private listener: (event: { data: FromTree }) => void = () => undefined
  constructor() {
    Beside.all.push(this)
  }
  addEventListener(_: string, listener: (event: { data: FromTree }) => void): void {
    this.listener = listener
  }
  postMessage(message: ToTree): void {
    this.told.push(message)
  }
  terminate(): void {
    this.ended = true
  }
  answers(turn: number, ...seen: number[]): void {
    this.listener({ data: { turn, seen: Uint32Array.from(seen) } })
  }
}

const things = (count: number) =>
  Array.from({ length: count }, (_, i) => ({ path: `db/bookings/odd/t${i}`, name: `t${i}`, kind: 'table' }) as PointThing)

function open(all: PointThing[]) {
  const filter = ref('')
  let seen!: Readonly<Ref<PointThing[]>>
  const page = mount(
    defineComponent({
      setup() {
        seen = useSeenThings(() => all, filter, shallowRef(new Set<string>()))
        return () => null
      },
    }),
  )
  return { page, filter, names: () => seen.value.map(({ name }) => name) }
}

describe('what is to be seen of a tree', () => {
  beforeEach(() => {
    Beside.all = []
    vi.stubGlobal('Worker', Beside)
  })
  afterEach(() => vi.unstubAllGlobals())

  it('is there at once where there is little', async () => {
    const { filter, names } = open(things(20))
    expect(names()).toHaveLength(20)
    filter.value = 't1'
    await nextTick()
    expect(names()).toEqual(['t1', 't10', 't11', 't12', 't13', 't14', 't15', 't16', 't17', 't18', 't19'])
    expect(Beside.all).toEqual([])
  })

  it('is looked through beside the page where there is much, and only the last wish counts', async () => {
    const { page, filter, names } = open(things(5000))
    const [beside] = Beside.all
    filter.value = 't49'
    await nextTick()
    filter.value = 't499'
    await nextTick()
    expect(beside!.told.filter((message) => 'things' in message)).toHaveLength(1)
    const turns = beside!.told.flatMap((message) => ('turn' in message ? [message.turn] : []))
    beside!.answers(turns[1]!, 49, 499)
    expect(names()).toEqual([])
    beside!.answers(turns[2]!, 499, 4990)
    expect(names()).toEqual(['t499', 't4990'])
    page.unmount()
    expect(beside!.ended).toBe(true)
  })
})
