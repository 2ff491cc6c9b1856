import { watchDebounced } from '@vueuse/core'
import { defineStore } from 'pinia'
import { computed, reactive, ref, shallowRef, watch } from 'vue'
import type { NamespacePlan } from '~~/core/cluster/operations'
import type { ErrorRecord } from '~~/core/errors'
import type { RowPick, Wish } from '~~/core/restore/wish'
import { countsWithin, isWithin, upwards } from '~~/core/things/thing'
import type { Plan, PlanView, PointContents, PointThing } from '~~/server/views'
import { useLoad } from '~/composables/useLoad'
import { pointUrl } from '~/utils/addresses'
import { errorOf, post } from '~/utils/api'
import { choicesOf, putChoices, usualChoices, wishFrom, type Choices } from '~/utils/choices'
import { newestOf } from '~/utils/newest'
import { isContainer } from '~/utils/things'

/** What was chosen for a vessel when its workbench was left. */
interface Left {
  point: string | null
  picks: string[]
  choices: Choices
}

/**
 * The workbench that is open: what a point holds, what of it is picked, where it goes, and the plan that follows. What was
 * chosen for a vessel waits until its workbench is opened again, at the same point.
 */
export const useWorkbench = defineStore('workbench', () => {
  const point = ref<string | null>(null)
  const left = new Map<string, Left>()
  /** Whose workbench is open. */
  let opened: { vessel: string; waiting: Left | undefined; isBegun: boolean } | null = null
  const picks = ref<Set<string>>(new Set())
  const choices = reactive(usualChoices())
  /** Counts how often all choices became others at once: whoever wrote a text from them writes it anew. */
  const taken = ref(0)

  function putAll(given: Partial<Choices>, picked: string[]): void {
    putChoices(choices, { ...usualChoices(), ...given })
    picks.value = new Set(picked)
    taken.value++
  }
  /**
   * Opens the workbench of a vessel.
   *
   * @param anew whether what waits for the vessel is forgotten, because it was said otherwise what is to be restored
   * @returns what closes it, and keeps what was chosen
   */
  function open(vessel: string, anew: boolean): () => void {
    keep()
    const opening = (opened = { vessel, waiting: anew ? undefined : left.get(vessel), isBegun: false })
    left.delete(vessel)
    point.value = null
    putAll({}, [])
    return () => {
      if (opened !== opening) return
      keep()
      opened = null
      point.value = null
      putAll({}, [])
    }
  }
  function keep(): void {
    if (!opened || opened.isBegun || !wish.value) return
    const chosen = JSON.parse(JSON.stringify(choices)) as Choices
    left.set(opened.vessel, { point: point.value, picks: [...picks.value], choices: chosen })
  }
  /** What is chosen was begun: nothing of it waits. */
  function began(): void {
    if (opened) opened.isBegun = true
  }
  /** Another point of the same vessel: what was chosen stays, but for what was said of single things. */
  function goTo(at: string | null): void {
    const isFirst = point.value === null
    point.value = at
    const waiting = opened?.waiting
    if (isFirst && waiting && waiting.point === at) putAll(waiting.choices, waiting.picks)
    if (isFirst) return
    putChoices(choices, { each: {}, without: [], rows: {} })
    choices.beside.names = {}
  }

  const contents = useLoad<PointContents>(() => point.value && pointUrl(point.value), { tells: true })
  const things = computed(() => contents.data.value?.things ?? [])
  const leaves = computed(() => things.value.filter((thing) => !isContainer(thing)))
  const leavesOf = (path: string) => leaves.value.filter((thing) => isWithin(thing.path, path))
  // Counted once for each change of them: there may be a hundred thousand.
  const within = computed(() => countsWithin(leaves.value.map(({ path }) => path)))
  const pickedWithin = computed(() => countsWithin(leaves.value.flatMap(({ path }) => (picks.value.has(path) ? [path] : []))))
  const stateOf = ({ path }: Pick<PointThing, 'path'>): boolean | 'indeterminate' => {
    const picked = pickedWithin.value.get(path) ?? 0
    return picked === 0 ? false : picked === within.value.get(path) ? true : 'indeterminate'
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
  const toggle = (thing: Pick<PointThing, 'path'>) =>
    pickAll(
      leavesOf(thing.path).map(({ path }) => path),
      stateOf(thing) !== true,
    )
  const goneIn = (container: string) => leavesOf(container).flatMap(({ path, there }) => (there === false ? [path] : []))
  /** Picks what is gone of a container, and nothing else of it. */
  const pickGone = (container: string) => pickAll(goneIn(container), true)
  /** Whether just what is gone of a container is picked. */
  const isJustGone = (container: string) => {
    const gone = goneIn(container)
    return gone.length === picks.value.size && gone.every((path) => picks.value.has(path))
  }
  /** Single rows of a table; without any the table is no longer picked for them. */
  function pickRows(path: string, pick: RowPick): void {
    pickAll([path], pick.keys.length > 0)
    if (pick.keys.length > 0) choices.rows[path] = pick
  }
  /** Single files of a volume; without any the volume is no longer picked for them. */
  function pickFiles(path: string, files: string[]): void {
    const { [path]: _, ...others } = choices.cluster.files
    choices.cluster.files = files.length > 0 ? { ...others, [path]: files } : others
    if (files.length > 0) pickAll([path], false)
  }
  /** Picks and chooses as a wish does, once the point is loaded; what this point does not hold is not picked. */
  const take = (wished: Wish) =>
    putAll(
      choicesOf(wished),
      wished.picks.flatMap((path) => leavesOf(path).map((leaf) => leaf.path)),
    )

  /** Containers that are picked whole are named themselves, so that a whole database is asked for as such. */
  const pickedPaths = computed(() => {
    const paths = new Set<string>()
    for (const thing of things.value) {
      if (upwards(thing.path).some((path) => paths.has(path))) continue
      if (stateOf(thing) === true) paths.add(thing.path)
    }
    return [...paths]
  })
  const wish = computed(() => wishFrom(choices, pickedPaths.value))

  const plans = shallowRef<Plan[]>([])
  const namespaces = shallowRef<NamespacePlan[]>([])
  const trouble = shallowRef<ErrorRecord | null>(null)
  const planning = ref(false)
  /** Stands for the plan that is shown: nothing else is to be done. */
  const agreed = ref<string | null>(null)
  const asked = computed(() => JSON.stringify([point.value, wish.value]))
  const begin = newestOf()
  const forget = () => ([plans.value, namespaces.value] = [[], []])
  /** @param quietly because something changed there, not what is wished: a click meanwhile must not be lost */
  async function plan(quietly = false): Promise<void> {
    const isNewest = begin()
    const wished = asked.value
    trouble.value = null
    if (!point.value || !wish.value) {
      forget()
      planning.value = false
      return
    }
    if (!quietly) planning.value = true
    try {
      const answer = await post<PlanView>(`${pointUrl(point.value)}/plan`, wish.value)
      if (isNewest()) [plans.value, namespaces.value, agreed.value] = [answer.databases, answer.namespaces, answer.agreed]
    } catch (thrown) {
      if (!isNewest()) return
      forget()
      trouble.value = errorOf(thrown)
    } finally {
      if (isNewest() && wished === asked.value) planning.value = false
    }
  }
  // What is wished now has no plan yet: nothing is to be started by one that was made for another wish.
  watch(asked, () => (planning.value = true))
  watchDebounced(asked, () => plan(), { debounce: 200 })

  const kinds = computed(() => new Set(things.value.map(({ kind }) => kind)))
  return {
    open,
    goTo,
    began,
    taken,
    point,
    contents: contents.data,
    contentsError: contents.error,
    contentsPending: contents.pending,
    refreshContents: contents.refresh,
    things,
    leaves,
    picks,
    toggle,
    pickAll,
    pickGone,
    isJustGone,
    stateOf,
    pickRows,
    pickFiles,
    take,
    pickedPaths,
    choices,
    wish,
    plan,
    plans,
    namespaces,
    agreed,
    trouble,
    planning,
    operations: computed(() => plans.value.flatMap((plan) => plan.operations)),
    blockers: computed(() => plans.value.flatMap((plan) => plan.blockers)),
    /** What is done with objects and volumes of namespaces. */
    returning: computed(() =>
      namespaces.value.flatMap((namespace) => [...namespace.operations, ...namespace.volumes]).filter(({ verb }) => verb !== 'leave'),
    ),
    isOfCluster: computed(() => kinds.value.has('namespace')),
    isOfDatabase: computed(() => kinds.value.has('database')),
  }
})
