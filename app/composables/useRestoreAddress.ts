import { isPlain, type Wish } from '~~/core/restore/wish'
import { isWithin } from '~~/core/things/thing'

/** What of an address says what is to be restored. */
const NAMES = ['pick', 'gone', 'rows', 'wish', 'saved', 'again'] as const

/**
 * The workbench as the address says, and the address as the workbench is: one thing, or what is gone of a container, by
 * its path, and all else under a short name that the server keeps.
 *
 * @param point the point that the page is about
 */
export function useRestoreAddress(slug: () => string, point: Ref<string | null>) {
  const route = useRoute()
  const setQuery = useQuery()
  const fail = useFailure()
  const bench = useWorkbench()
  const asked = (name: string): string | null => (route.query[name] ? String(route.query[name]) : null)
  const close = bench.open(
    slug(),
    NAMES.some((name) => asked(name) !== null),
  )
  onScopeDispose(close)
  watch(point, bench.goTo, { immediate: true })

  /** The thing that is looked at, and all that can be. */
  const shown = ref<string | null>(asked('show'))
  const lookable = computed(() => bench.things.filter((thing) => isTable(thing) || isObject(thing) || thing.kind === 'volume'))
  /** Shows the first of what lies within some paths, and rather what is gone. */
  function showFirst(within: string[]): void {
    const candidates = lookable.value.filter(({ path }) => within.some((root) => root === '' || isWithin(path, root)))
    shown.value = (candidates.find(({ there }) => there === false) ?? candidates[0] ?? lookable.value[0])?.path ?? null
  }

  const { wish: earlier, error: earlierError, saved } = useEarlierWish(slug)
  /** What an earlier restore picked, and this point does not hold. */
  const missing = computed(() => {
    const known = new Set(bench.things.map(({ path }) => path))
    if (!earlier.value || known.size === 0) return []
    return [...earlier.value.picks, ...Object.keys(earlier.value.cluster.files)].filter((path) => !known.has(path))
  })
  /** The earlier wish is taken over once; what is chosen after that is the person's. */
  let isTaken = false
  function takeEarlier(): void {
    if (isTaken || !earlier.value || bench.things.length === 0) return
    isTaken = true
    bench.take(earlier.value)
    if (!asked('show')) showFirst(earlier.value.picks)
  }
  watch(earlier, takeEarlier)

  /** What was asked for and is in no point. */
  const nowhere = ref<string | null>(null)
  /** Goes to the newest point that holds what was asked for, where the one at hand does not. */
  async function look(path: string): Promise<void> {
    const { point: holding } = await $fetch<{ point: string | null }>(`/api/vessels/${slug()}/holding?path=${encodeURIComponent(path)}`)
    if (holding && holding !== point.value) await setQuery({ point: holding, at: undefined })
    else nowhere.value = path
  }
  /** Keys of single rows that the address names. */
  function rowsAsked(): string[][] | null {
    try {
      const rows: unknown = JSON.parse(asked('rows') ?? 'null')
      return Array.isArray(rows) && rows.every((row) => Array.isArray(row)) ? (rows as string[][]) : null
    } catch {
      return null
    }
  }
  watch(
    () => bench.things,
    (things) => {
      // While another point is loaded, what is shown stays.
      if (things.length === 0) return
      takeEarlier()
      const [pick, gone] = [asked('pick'), asked('gone')]
      if (gone && bench.picks.size === 0) bench.pickGone(gone)
      const wanted = pick && things.find((thing) => thing.path === pick)
      if (pick && !wanted) look(pick).catch(fail)
      if (wanted && bench.stateOf(wanted) === false) bench.toggle(wanted)
      const rows = rowsAsked()
      if (wanted && rows && !bench.choices.rows[wanted.path]) bench.pickRows(wanted.path, { keys: rows, overwrite: null })
      if (!shown.value || !lookable.value.some(({ path }) => path === shown.value)) showFirst([pick ?? gone ?? ''])
    },
    { immediate: true },
  )

  const begin = newestOf()
  const lacksEarlier = () => !isTaken && (asked('wish') ?? asked('saved') ?? asked('again')) !== null
  async function remember(wish: Wish | null, before: Wish | null | undefined): Promise<void> {
    // Before anything was ticked, the address says what is to be.
    if ((!wish && !before) || lacksEarlier()) return
    const isNewest = begin()
    const none = { pick: undefined, gone: undefined, rows: undefined, wish: undefined }
    const wasGone = asked('gone')
    if (!wish) return setQuery(none)
    if (isPlain(wish) && wasGone && bench.isJustGone(wasGone)) return setQuery({ ...none, gone: wasGone })
    if (isPlain(wish) && wish.picks.length === 1) return setQuery({ ...none, pick: wish.picks[0] })
    const choice = await post<{ id: string }>('/api/choices', { of: 'restore', wish }).catch(fail)
    if (choice && isNewest()) await setQuery({ ...none, wish: choice.id })
  }
  watchDebounced(() => bench.wish, remember, { debounce: 300 })

  return { shown, lookable, missing, nowhere, saved, earlierError }
}
