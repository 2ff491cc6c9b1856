import type { ErrorRecord } from '~~/core/errors'
import type { Condition } from '~~/core/look/filter'
import type { LookedRow, RowPage } from '~~/server/views'

export type RowOrder = 'stored' | 'key' | 'key-descending'

const PAGE = 100
/** Browsers draw no list of any height; so many rows are scrolled through at once, from wherever the person is. */
export const WINDOW = 200_000

/** The rows of a table in a point, loaded as they come into view. */
export function useRowWindow(point: Ref<string | null>, path: Ref<string | null>, first: { order: RowOrder; filter: Condition[] }) {
  const order = ref<RowOrder>(first.order)
  const filter = ref<Condition[]>(first.filter)
  const base = ref(0)
  const head = shallowRef<RowPage | null>(null)
  const pages = shallowRef(new Map<number, LookedRow[]>())
  const found = shallowRef<LookedRow[]>([])
  const next = shallowRef<RowPage['next']>(null)
  const looked = ref(0)
  const error = shallowRef<ErrorRecord | null>(null)
  const pending = ref(false)
  const asked = new Set<number>()
  let turn = 0

  const address = (more: Record<string, string>) =>
    `${pointUrl(point.value!)}/rows?${new URLSearchParams({ path: path.value!, order: order.value, limit: String(PAGE), ...more })}`

  async function load(more: Record<string, string>): Promise<RowPage | null> {
    const mine = turn
    pending.value = true
    try {
      const page = await $fetch<RowPage>(address(more))
      if (mine !== turn) return null
      error.value = null
      head.value = page
      return page
    } catch (thrown) {
      if (mine === turn) error.value = errorOf(thrown)
      return null
    } finally {
      if (mine === turn) pending.value = false
    }
  }

  /** Loads the pages that hold rows from `first` to `last`, counted from the window's beginning. */
  async function see(first: number, last: number): Promise<void> {
    if (filter.value.length > 0 || !point.value || !path.value) return
    for (let page = Math.floor(first / PAGE); page <= Math.floor(Math.max(first, last) / PAGE); page++) {
      if (asked.has(page)) continue
      asked.add(page)
      const mine = turn
      const answer = await load({ offset: String(base.value + page * PAGE) })
      if (answer) pages.value = new Map(pages.value).set(page, answer.rows)
      else if (mine === turn) asked.delete(page)
    }
  }

  /** Goes on looking for rows that satisfy the filter. */
  async function more(): Promise<void> {
    if (pending.value || filter.value.length === 0) return
    const after = next.value
    const answer = await load({ filter: JSON.stringify(filter.value), ...(after ? { after: `${after.chunk}.${after.row}` } : {}) })
    if (!answer) return
    found.value = [...found.value, ...answer.rows]
    next.value = answer.next
    looked.value = answer.looked
    // A page without a single row says nothing yet; the search goes on by itself until there is something to see.
    if (answer.next && found.value.length < PAGE / 2) await more()
  }

  async function start(): Promise<void> {
    turn++
    asked.clear()
    pages.value = new Map()
    found.value = []
    next.value = null
    looked.value = 0
    error.value = null
    pending.value = false
    if (!point.value || !path.value) return
    await (filter.value.length > 0 ? more() : see(0, PAGE - 1))
  }
  // Another point is asked for the same rows; another table has other columns.
  watch([point, path], (_, [, before]) => {
    head.value = null
    base.value = 0
    if (before === path.value) return
    order.value = 'stored'
    filter.value = []
  })
  watch([point, path, order, filter, base], start, { immediate: true })

  const count = computed(() =>
    filter.value.length > 0 ? found.value.length : Math.min(WINDOW, Math.max(0, (head.value?.total ?? 0) - base.value)),
  )
  const rowAt = (index: number): LookedRow | undefined =>
    filter.value.length > 0 ? found.value[index] : pages.value.get(Math.floor(index / PAGE))?.[index % PAGE]
  return { order, filter, base, head, count, rowAt, see, more, next, looked, error, pending }
}
