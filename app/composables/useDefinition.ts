import type { ErrorRecord } from '~~/core/errors'
import { NOT_HELD } from '~~/core/quiesce/sequence'
import { defaultLog, READERS, type VesselDefinition } from '~~/core/plan/definition'
import type { Rule } from '~~/core/selection/rules'
import { namesOf } from '~~/core/things/thing'
import type { SourceView, SelectionView, StillView, StoreView } from '~~/server/views'

const KINDS = { 2: 'database', 3: 'schema', 4: 'thing' } as const
const OF_CLUSTERS = { 2: 'namespace', 3: 'namespace', 4: 'volume', 5: 'object' } as const

/** The rule that takes what lies at a path of a server or of a cluster. */
export function ruleFor(path: string, isCluster: boolean, act: Rule['act'] = 'take'): Rule {
  const depth = Math.max(2, namesOf(path).length)
  const kind = isCluster ? OF_CLUSTERS[Math.min(5, depth) as 2 | 3 | 4 | 5] : KINDS[Math.min(4, depth) as 2 | 3 | 4]
  return { id: crypto.randomUUID(), act, kind, pattern: path }
}

/** A definition that is being written, with what its rules take evaluated as they are typed. */
export function useDefinition(saved: VesselDefinition | null, take: string[], slug: string | null) {
  const blank: VesselDefinition = {
    rules: take.map((path) => ruleFor(path, false)),
    store: '',
    promises: { couldLose: 24 * 3_600_000, backWithin: 3_600_000 },
    readers: READERS.default,
    log: defaultLog(false),
    still: NOT_HELD,
    partly: 'keep',
  }
  const draft = reactive<VesselDefinition>(JSON.parse(JSON.stringify(saved ?? blank)) as VesselDefinition)
  const { data: sources } = useLoad<SourceView[]>('/api/sources')
  // Which kind of source a path leads into is only known when the sources are.
  watch(sources, (list) => {
    const clusters = new Set(list?.filter(({ kind }) => kind === 'kubernetes').map(({ name }) => name))
    for (const rule of draft.rules) {
      if (take.includes(rule.pattern) && clusters.has(namesOf(rule.pattern)[0]!)) rule.kind = ruleFor(rule.pattern, true).kind
    }
  })
  const { data: stores, refresh: refreshStores } = useLoad<StoreView[]>('/api/stores')
  watch(stores, (list) => {
    if (!draft.store && list?.[0]) draft.store = list[0].name
  })
  const { data: measured, refresh: refreshMeasured } = useLoad<StillView>(slug === null ? '/api/still' : `/api/vessels/${slug}/still`)
  const selection = shallowRef<SelectionView | null>(null)
  /** Why the figures are not those of the rules that stand there now. */
  const stale = shallowRef<ErrorRecord | null>(null)
  /** The rules that were saved last, with which those of the draft are compared. */
  const than = shallowRef<Rule[] | null>(saved?.rules ?? null)
  const begin = newestOf()
  async function evaluate() {
    const isNewest = begin()
    const body = { rules: draft.rules, vessel: slug, than: than.value }
    try {
      const answer = await post<SelectionView>('/api/selection', body)
      if (!isNewest()) return
      selection.value = answer
      stale.value = null
    } catch (thrown) {
      if (isNewest()) stale.value = errorOf(thrown)
    }
  }
  watchDebounced([() => draft.rules, than], evaluate, { debounce: 150, deep: true, immediate: true })
  onChange((change) => change.about === 'things', evaluate, 1000)
  /** The draft was saved: from now on it is compared with itself. */
  const wasSaved = () => (than.value = JSON.parse(JSON.stringify(draft.rules)) as Rule[])
  return { draft, slug, stores, refreshStores, selection, stale, wasSaved, measured, refreshMeasured }
}
