import type { ErrorRecord } from '~~/core/errors'
import { wishOf, type Collision, type Wish } from '~~/core/restore/wish'
import { isWithin } from '~~/core/things/thing'
import type { Plan, PointContents, PointThing } from '~~/server/views'

export interface BesideChoice {
  schema: string | null
  names: Record<string, string>
}

/** The state of the workbench for one point: what is picked, where it goes, and the plan that follows. */
export function useWorkbench(point: Ref<string | null>) {
  const contents = useLoad<PointContents>(() => (point.value ? `/api/points/${point.value}` : null))
  const picks = ref<Set<string>>(new Set())
  const mode = ref<'original' | 'beside'>('original')
  const beside = reactive<BesideChoice>({ schema: null, names: {} })
  const collide = ref<Collision>('replace')
  const each = ref<Record<string, Collision>>({})
  const plans = shallowRef<Plan[]>([])
  const trouble = shallowRef<ErrorRecord | null>(null)
  const planning = ref(false)

  const things = computed(() => contents.data.value?.things ?? [])
  const leaves = computed(() => things.value.filter((thing) => thing.kind !== 'database' && thing.kind !== 'schema'))
  const leavesOf = (path: string) => leaves.value.filter((thing) => isWithin(thing.path, path))
  const stateOf = (thing: PointThing): boolean | 'indeterminate' => {
    const own = leavesOf(thing.path)
    const picked = own.filter(({ path }) => picks.value.has(path)).length
    return picked === 0 ? false : picked === own.length ? true : 'indeterminate'
  }
  function toggle(thing: PointThing): void {
    const next = new Set(picks.value)
    const add = stateOf(thing) !== true
    for (const { path } of leavesOf(thing.path)) {
      if (add) next.add(path)
      else next.delete(path)
    }
    picks.value = next
  }

  /** Containers that are picked whole are named themselves, so that a whole database is asked for as such. */
  const pickedPaths = computed(() => {
    const paths: string[] = []
    for (const thing of things.value) {
      if (paths.some((path) => isWithin(thing.path, path))) continue
      if (stateOf(thing) === true) paths.push(thing.path)
    }
    return paths
  })
  const wish = computed<Wish>(() =>
    wishOf({
      picks: pickedPaths.value,
      into:
        mode.value === 'original'
          ? { mode: 'original' }
          : { mode: 'beside', schema: beside.schema, prefix: '', suffix: '', names: { ...beside.names } },
      collide: collide.value,
      each: each.value,
    }),
  )

  let turn = 0
  async function plan(): Promise<void> {
    const mine = ++turn
    trouble.value = null
    if (!point.value || wish.value.picks.length === 0) {
      plans.value = []
      planning.value = false
      return
    }
    planning.value = true
    try {
      const answer = await post<Plan[]>(`/api/points/${point.value}/plan`, wish.value)
      if (mine === turn) plans.value = answer
    } catch (thrown) {
      if (mine !== turn) return
      plans.value = []
      trouble.value = errorOf(thrown)
    } finally {
      if (mine === turn) planning.value = false
    }
  }
  watchDebounced([wish, point], plan, { debounce: 200, deep: true })
  watch(point, () => ((each.value = {}), (beside.names = {})))

  const operations = computed(() => plans.value.flatMap((one) => one.operations))
  const blockers = computed(() => plans.value.flatMap((one) => one.blockers))
  return {
    contents,
    things,
    picks,
    toggle,
    stateOf,
    pickedPaths,
    mode,
    beside,
    collide,
    each,
    wish,
    plan,
    plans,
    operations,
    blockers,
    trouble,
    planning,
  }
}

export type Workbench = ReturnType<typeof useWorkbench>
