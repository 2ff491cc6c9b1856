import { watchDebounced } from '@vueuse/core'
import { defineStore } from 'pinia'
import { computed, ref, shallowRef, watch } from 'vue'
import type { ErrorRecord } from '~~/core/errors'
import { defaultLog, READERS, type Partly, type VesselDefinition } from '~~/core/plan/definition'
import { defaultRetention, type Retention } from '~~/core/plan/retention'
import { NOT_HELD, type HoldStep, type QuiesceSequence } from '~~/core/quiesce/sequence'
import type { Rule } from '~~/core/selection/rules'
import { namesOf } from '~~/core/things/thing'
import { NEW_CYCLE, NEW_WINDOW, type PlanLine, type Schedule } from '~~/core/plan/schedule'
import type {
  DefaultPlanView,
  MeasuredSizes,
  ScheduleView,
  SelectionView,
  SourceView,
  QuiesceView,
  StoreView,
  WayOfBackup,
} from '~~/server/views'
import { onChange } from '~/composables/useLive'
import { useLoad } from '~/composables/useLoad'
import { errorOf, post } from '~/utils/api'
import { newestOf } from '~/utils/newest'
import { ruleFor } from '~/utils/rules'
import { zoneInUse } from '~/utils/zone'

/** A definition of which everything is said. */
export type WholeDefinition = VesselDefinition & { log: NonNullable<VesselDefinition['log']>; quiesce: QuiesceSequence; partly: Partly }

/** Older definitions say nothing of logs and of holds, which is to follow and to hold none, and to keep what can be. */
const wholeOf = (given: VesselDefinition): WholeDefinition =>
  JSON.parse(JSON.stringify({ log: defaultLog(false), quiesce: NOT_HELD, partly: 'keep', ...given })) as WholeDefinition

const blank = (take: string[]): WholeDefinition =>
  wholeOf({
    rules: take.map((path) => ruleFor(path, false)),
    store: '',
    promises: { couldLose: 24 * 3_600_000, backWithin: 3_600_000 },
    readers: READERS.default,
    retention: defaultRetention(),
  })

/** Lines that are good beginnings, in the order in which they are offered. */
const LINES: Pick<PlanLine, 'name' | 'times' | 'makes' | 'window'>[] = [
  {
    name: 'nightly',
    times: { kind: 'days', at: ['02:00'], on: { of: 'every day' } },
    makes: NEW_CYCLE,
    window: NEW_WINDOW,
  },
  { name: 'hourly', times: { kind: 'every', count: 1, unit: 'hours' }, makes: { kind: 'each', what: 'differential' } },
  {
    name: 'monthly',
    times: { kind: 'days', at: ['04:00'], on: { of: 'month', day: 1 } },
    makes: { kind: 'each', what: 'full' },
    window: { minutes: 240, spread: true, close: 'finish' },
  },
]

const newLine = (used: Set<string>): PlanLine => {
  const { name, ...rest } = LINES.find((line) => !used.has(line.name)) ?? LINES[0]!
  return { id: crypto.randomUUID(), name: used.has(name) ? `line ${used.size + 1}` : name, ...structuredClone(rest) }
}

/** @param now the first start, to the minute */
const firstSchedule = (zone: string, now: Date): Schedule => ({
  zone,
  from: new Date(Math.floor(now.getTime() / 60_000) * 60_000).toISOString(),
  lines: [newLine(new Set())],
  meanwhile: 'wait',
})

/** What is saved of a vessel: the version that is being changed. */
export interface Saved {
  slug: string
  version: number
  definition: VesselDefinition
}

/** The definition that is being written, with what its rules take evaluated as they are typed. */
export const useDraft = defineStore('draft', () => {
  const definition = ref(blank([]))
  const slug = ref<string | null>(null)
  const version = ref(0)
  /** As it was saved; null for a vessel that is not there yet. */
  const saved = shallowRef<WholeDefinition | null>(null)
  /** Paths with which a new vessel begins. */
  let taken: string[] = []
  let opened: symbol | null = null
  const isOpen = ref(false)

  /** @returns what closes it; nothing of the draft is kept */
  function open(of: Saved | { take: string[] }): () => void {
    const opening = (opened = Symbol('draft'))
    if ('take' in of) {
      taken = of.take
      ;[slug.value, version.value, saved.value] = [null, 0, null]
      definition.value = blank(taken)
    } else {
      taken = []
      ;[slug.value, version.value, saved.value] = [of.slug, of.version, wholeOf(of.definition)]
      definition.value = wholeOf(of.definition)
    }
    selection.value = null
    isOpen.value = true
    isBegun = false
    beginAsUsual()
    fill()
    return () => {
      if (opened === opening) isOpen.value = false
    }
  }
  const isChanged = computed(() =>
    saved.value === null
      ? definition.value.rules.length !== taken.length
      : JSON.stringify(definition.value) !== JSON.stringify(saved.value),
  )
  const setBack = () => void (saved.value && (definition.value = wholeOf(saved.value)))
  /** It was saved as this version: from now on it is compared with itself. */
  function wasSaved(as: number): void {
    version.value = as
    saved.value = wholeOf(definition.value)
  }

  const whenOpen = (url: () => string) => () => (isOpen.value ? url() : null)
  const { data: sources } = useLoad<SourceView[]>(whenOpen(() => '/api/sources'))
  const { data: stores, refresh: refreshStores } = useLoad<StoreView[]>(whenOpen(() => '/api/stores'))
  const { data: measured, refresh: refreshMeasured } = useLoad<QuiesceView>(
    whenOpen(() => (slug.value === null ? '/api/quiesce' : `/api/vessels/${slug.value}/quiesce`)),
  )
  /** With what new vessels begin here; asked for only for one that is new. */
  const { data: begins } = useLoad<DefaultPlanView>(() => (isOpen.value && slug.value === null ? '/api/default-plan' : null))
  let isBegun = false
  function beginAsUsual(): void {
    if (!begins.value || slug.value !== null || isBegun) return
    isBegun = true
    const { schedule, retention } = JSON.parse(JSON.stringify(begins.value)) as DefaultPlanView
    if (schedule) definition.value.schedule = { ...schedule, from: firstSchedule(schedule.zone, new Date()).from }
    if (retention) definition.value.retention = retention
    else if (retention === null) delete definition.value.retention
  }
  watch(begins, beginAsUsual)
  /** What can only be said once sources and stores are known. */
  function fill(): void {
    const clusters = new Set(sources.value?.filter(({ kind }) => kind === 'kubernetes').map(({ name }) => name))
    for (const rule of definition.value.rules)
      if (taken.includes(rule.pattern) && clusters.has(namesOf(rule.pattern)[0]!)) rule.kind = ruleFor(rule.pattern, true).kind
    definition.value.store ||= stores.value?.[0]?.name ?? ''
  }
  watch([sources, stores], fill)

  const selection = shallowRef<SelectionView | null>(null)
  /** Why the figures are not those of the rules that stand there now. */
  const stale = shallowRef<ErrorRecord | null>(null)
  const begin = newestOf()
  async function evaluate(): Promise<void> {
    const isNewest = begin()
    if (!isOpen.value) return
    const body = { rules: definition.value.rules, vessel: slug.value, than: saved.value?.rules ?? null }
    try {
      const answer = await post<SelectionView>('/api/selection', body)
      if (isNewest()) [selection.value, stale.value] = [answer, null]
    } catch (thrown) {
      if (isNewest()) stale.value = errorOf(thrown)
    }
  }
  watchDebounced([isOpen, () => definition.value.rules, saved], evaluate, { debounce: 150, deep: true })
  onChange((change) => change.about === 'things', evaluate, 1000)

  const rules = computed(() => definition.value.rules)
  function addRule(act: Rule['act'], pattern = '', kind: Rule['kind'] = 'database'): void {
    rules.value.push({ id: crypto.randomUUID(), act, kind, pattern })
  }
  function moveRule(index: number, by: number): void {
    const [rule] = rules.value.splice(index, 1)
    rules.value.splice(index + by, 0, rule!)
  }
  const removeRule = (index: number) => rules.value.splice(index, 1)

  /** What the vessel's plan has made so far. */
  const { data: scheduled } = useLoad<ScheduleView>(() =>
    isOpen.value && slug.value !== null ? `/api/vessels/${slug.value}/schedule` : null,
  )
  /** What the vessel's backups have taken so far. */
  const { data: sizes } = useLoad<MeasuredSizes>(() => (isOpen.value && slug.value !== null ? `/api/vessels/${slug.value}/sizes` : null))
  /** What stands in the way of each kind of backup, as the vessel was saved. */
  const { data: ways } = useLoad<WayOfBackup[]>(() => (isOpen.value && slug.value !== null ? `/api/vessels/${slug.value}/ways` : null))
  /** Switches the plan on, with a line that is a good beginning, or off. */
  function plan(isOn: boolean): void {
    const kept = saved.value?.schedule
    if (!isOn) delete definition.value.schedule
    else definition.value.schedule = kept ? (JSON.parse(JSON.stringify(kept)) as Schedule) : firstSchedule(zoneInUse.value, new Date())
  }
  /** Says how long points stay, or says nothing of it. */
  function retain(isOn: boolean): void {
    const kept = saved.value?.retention
    if (!isOn) delete definition.value.retention
    else definition.value.retention = kept ? (JSON.parse(JSON.stringify(kept)) as Retention) : defaultRetention()
  }
  function addLine(): void {
    const { schedule } = definition.value
    schedule?.lines.push(newLine(new Set(schedule.lines.map(({ name }) => name))))
  }
  const removeLine = (id: string) => {
    const { schedule } = definition.value
    if (schedule) schedule.lines = schedule.lines.filter((line) => line.id !== id)
  }

  /** Puts other steps in the place of those that hold. */
  const putSteps = (steps: HoldStep[]) => void (definition.value.quiesce.steps = steps)

  return {
    open,
    definition,
    slug,
    version,
    saved,
    isChanged,
    setBack,
    wasSaved,
    sources,
    stores,
    refreshStores,
    measured,
    refreshMeasured,
    selection,
    stale,
    addRule,
    moveRule,
    removeRule,
    putSteps,
    scheduled,
    sizes,
    ways,
    plan,
    retain,
    addLine,
    removeLine,
  }
})
