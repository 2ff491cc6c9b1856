import type { ErrorRecord } from '~~/core/errors'
import { KEEP_DAYS, SCRATCH_HOURS, wishOf, type Collision, type Into, type RowPick, type Wish } from '~~/core/restore/wish'
import { countsWithin, isWithin, upwards } from '~~/core/things/thing'
import type { NamespacePlan } from '~~/core/cluster/operations'
import { clusterWishOf, type ClusterWish } from '~~/core/cluster/wish'
import type { Plan, PlanView, PointContents, PointThing } from '~~/server/views'

/** The choices of a return, apart from what is picked. */
export function useChoices() {
  return reactive({
    mode: 'original' as Into['mode'],
    beside: { schema: null as string | null, prefix: '', suffix: '', names: {} as Record<string, string> },
    elsewhere: { source: '', database: '' },
    scratch: { source: '', hours: SCRATCH_HOURS.default as number },
    what: 'both' as Wish['what'],
    collide: 'replace' as Collision,
    each: {} as Record<string, Collision>,
    along: true,
    without: [] as string[],
    roles: {} as Record<string, string>,
    makeRoles: false,
    rows: {} as Record<string, RowPick>,
    keepDays: KEEP_DAYS.default as number,
    cluster: clusterWishOf() as ClusterWish,
  })
}

type Choices = ReturnType<typeof useChoices>

function intoOf({ mode, beside, elsewhere, scratch }: Choices): Into | null {
  if (mode === 'original') return { mode }
  if (mode === 'beside') return { mode, ...beside, names: { ...beside.names } }
  if (mode === 'scratch') return { mode, ...scratch }
  return elsewhere.database.trim() === '' ? null : { mode, source: elsewhere.source, database: elsewhere.database.trim() }
}

/** The state of the workbench for one point: what is picked, where it goes, and the plan that follows. */
export function useWorkbench(point: Ref<string | null>) {
  const contents = useLoad<PointContents>(() => (point.value ? `/api/points/${encodeURIComponent(point.value!)}` : null), { tells: true })
  const picks = ref<Set<string>>(new Set())
  const choices = useChoices()
  const plans = shallowRef<Plan[]>([])
  const namespaces = shallowRef<NamespacePlan[]>([])
  const trouble = shallowRef<ErrorRecord | null>(null)
  const planning = ref(false)

  const things = computed(() => contents.data.value?.things ?? [])
  const leaves = computed(() => things.value.filter((thing) => !isContainer(thing)))
  const leavesOf = (path: string) => leaves.value.filter((thing) => isWithin(thing.path, path))
  // Counted once for each change of them: there may be a hundred thousand.
  const within = computed(() => countsWithin(leaves.value.map(({ path }) => path)))
  const pickedWithin = computed(() => countsWithin(leaves.value.flatMap(({ path }) => (picks.value.has(path) ? [path] : []))))
  const stateOf = ({ path }: PointThing): boolean | 'indeterminate' => {
    const picked = pickedWithin.value.get(path) ?? 0
    return picked === 0 ? false : picked === within.value.get(path) ? true : 'indeterminate'
  }
  function toggle(thing: PointThing): void {
    const next = new Set(picks.value)
    const add = stateOf(thing) !== true
    for (const { path } of leavesOf(thing.path)) {
      if (add) next.add(path)
      else next.delete(path)
      if (!add) delete choices.rows[path]
    }
    picks.value = next
  }
  /** Picks some things, or no longer, whatever else is picked. */
  function pickAll(paths: string[], isPicked: boolean): void {
    const next = new Set(picks.value)
    for (const path of paths) {
      if (isPicked) next.add(path)
      else next.delete(path)
      if (!isPicked) delete choices.rows[path]
    }
    picks.value = next
  }
  const goneIn = (container: string) => leavesOf(container).flatMap(({ path, there }) => (there === false ? [path] : []))
  /** Picks what is gone of a container, and nothing else of it. */
  function pickGone(container: string): void {
    picks.value = new Set([...picks.value, ...goneIn(container)])
  }
  /** Whether just what is gone of a container is picked. */
  const isJustGone = (container: string) => {
    const gone = goneIn(container)
    return gone.length === picks.value.size && gone.every((path) => picks.value.has(path))
  }
  /** Single rows of a table; without any the table is no longer picked for them. */
  function pickRows(path: string, pick: RowPick): void {
    const next = new Set(picks.value)
    if (pick.keys.length > 0) {
      choices.rows[path] = pick
      next.add(path)
    } else {
      delete choices.rows[path]
      next.delete(path)
    }
    picks.value = next
  }

  /** Picks and chooses as a wish does, once the point is loaded; what this point does not hold is not picked. */
  function take({ picks: paths, into, rows, cluster, ...rest }: Wish): void {
    picks.value = new Set(paths.flatMap((path) => leavesOf(path).map((leaf) => leaf.path)))
    Object.assign(choices, rest, { mode: into.mode, rows, cluster })
    if (into.mode !== 'original') {
      const { mode, ...where } = into
      Object.assign(choices[mode], where)
    }
  }

  /** Single files of a volume; without any the volume is no longer picked for them. */
  function pickFiles(path: string, files: string[]): void {
    const { [path]: _, ...others } = choices.cluster.files
    choices.cluster.files = files.length > 0 ? { ...others, [path]: files } : others
    if (files.length === 0 || !picks.value.has(path)) return
    const next = new Set(picks.value)
    next.delete(path)
    picks.value = next
  }

  /** Containers that are picked whole are named themselves, so that a whole database is asked for as such. */
  const pickedPaths = computed(() => {
    const paths = new Set<string>()
    for (const thing of things.value) {
      if (upwards(thing.path).some((path) => paths.has(path))) continue
      if (stateOf(thing) === true) paths.add(thing.path)
    }
    return [...paths]
  })
  const wish = computed((): Wish | null => {
    const into = intoOf(choices)
    if (!into || (pickedPaths.value.length === 0 && Object.keys(choices.cluster.files).length === 0)) return null
    const { what, collide, each, along, without, roles, makeRoles, keepDays } = choices
    const rows = into.mode === 'beside' ? {} : { ...choices.rows }
    return wishOf({
      picks: pickedPaths.value,
      into,
      what,
      collide,
      each: { ...each },
      along,
      without: [...without],
      roles: { ...roles },
      makeRoles,
      rows,
      keepDays,
      cluster: JSON.parse(JSON.stringify(choices.cluster)) as ClusterWish,
    })
  })

  const asked = computed(() => JSON.stringify([point.value, wish.value]))
  /** Stands for the plan that is shown: nothing else is to be done. */
  const agreed = ref<string | null>(null)
  const begin = newestOf()
  /** @param quietly because something changed there, not what is wished: a click meanwhile must not be lost */
  async function plan(quietly = false): Promise<void> {
    const isNewest = begin()
    const wished = asked.value
    trouble.value = null
    if (!point.value || !wish.value) {
      plans.value = []
      namespaces.value = []
      planning.value = false
      return
    }
    if (!quietly) planning.value = true
    try {
      const answer = await post<PlanView>(`/api/points/${encodeURIComponent(point.value!)}/plan`, wish.value)
      if (isNewest()) [plans.value, namespaces.value, agreed.value] = [answer.databases, answer.namespaces, answer.agreed]
    } catch (thrown) {
      if (!isNewest()) return
      plans.value = []
      namespaces.value = []
      trouble.value = errorOf(thrown)
    } finally {
      if (isNewest() && wished === asked.value) planning.value = false
    }
  }
  // What is wished now has no plan yet: nothing is to be started by one that was made for another wish.
  watch(asked, () => (planning.value = true))
  watchDebounced(asked, () => plan(), { debounce: 200 })
  watch(point, (_, before) => before && Object.assign(choices, { each: {}, without: [], rows: {} }) && (choices.beside.names = {}))

  const operations = computed(() => plans.value.flatMap((one) => one.operations))
  const blockers = computed(() => plans.value.flatMap((one) => one.blockers))
  const isOfCluster = computed(() => things.value.some(({ kind }) => kind === 'namespace'))
  const isOfDatabase = computed(() => things.value.some(({ kind }) => kind === 'database'))
  /** What is done with objects and volumes of namespaces. */
  const returning = computed(() =>
    namespaces.value.flatMap((one) => [...one.operations, ...one.volumes]).filter(({ verb }) => verb !== 'leave'),
  )
  return {
    contents,
    things,
    picks,
    toggle,
    pickAll,
    pickGone,
    isJustGone,
    stateOf,
    pickRows,
    take,
    pickedPaths,
    choices,
    wish,
    plan,
    plans,
    agreed,
    operations,
    blockers,
    namespaces,
    returning,
    isOfCluster,
    isOfDatabase,
    pickFiles,
    trouble,
    planning,
  }
}

export type Workbench = ReturnType<typeof useWorkbench>
