<script setup lang="ts">
import { useVirtualizer } from '@tanstack/vue-virtual'
import { namesOf, upwards } from '~~/core/things/thing'
import type { PointThing } from '~~/server/views'

// The tree of what is in a point. What stands before and behind a name is the caller's. It is made by hand because its
// rows come flat and filtered out of a web worker (`useSeenThings`): the library's tree takes nested items, and would
// flatten 100,000 of them on the page at every key that is struck.
const { things, pending, choosable } = defineProps<{ things: PointThing[]; pending: boolean; choosable: (thing: PointThing) => boolean }>()
const shown = defineModel<string | null>({ required: true })
const filter = ref('')
const folded = ref<Set<string>>(new Set())

// What is in a namespace is in it directly, however long its path.
const depthOf = (thing: PointThing) => (isObject(thing) || thing.kind === 'volume' ? 1 : namesOf(thing.path).length - 2)
const rows = useSeenThings(() => things, filter, folded)
const indexOf = (path: string | null) => rows.value.findIndex((thing) => thing.path === path)
const scroller = useTemplateRef<HTMLElement>('scroller')
const virtual = useVirtualizer(
  computed(() => ({ count: rows.value.length, getScrollElement: () => scroller.value, estimateSize: () => 27, overscan: 12 })),
)
const drawn = computed(() =>
  virtual.value.getVirtualItems().flatMap(({ index, start }) => {
    const thing = rows.value[index]
    return thing ? [{ thing, index, start, depth: depthOf(thing), isFolded: folded.value.has(thing.path) }] : []
  }),
)
// What is shown is in view when the tree opens.
watch(
  () => indexOf(shown.value),
  (index, before) => index >= 0 && (before ?? -1) < 0 && nextTick(() => virtual.value.scrollToIndex(index, { align: 'auto' })),
  { immediate: true },
)

function fold(path: string, to = !folded.value.has(path)) {
  const next = new Set(folded.value)
  if (to) next.add(path)
  else next.delete(path)
  folded.value = next
}
const choose = (thing: PointThing) => void (choosable(thing) && (shown.value = thing.path))

/** The row that takes the keys: one that was gone to, or what is shown, or the first. */
const at = ref<string | null>(null)
const current = computed(() => {
  const found = [at.value, shown.value].map(indexOf).find((index) => index >= 0)
  return found ?? 0
})
async function goTo(wanted: number) {
  const index = Math.max(0, Math.min(rows.value.length - 1, wanted))
  const thing = rows.value[index]
  if (!thing) return
  at.value = thing.path
  virtual.value.scrollToIndex(index, { align: 'auto' })
  await nextTick()
  scroller.value?.querySelector<HTMLElement>(`[data-path="${CSS.escape(thing.path)}"]`)?.focus()
}
/** The keys of a tree: through it, into what is unfolded and out of it. */
function onKey(event: KeyboardEvent) {
  const index = current.value
  const thing = rows.value[index]
  if (!thing || event.ctrlKey || event.metaKey || event.altKey) return
  const isOpen = isContainer(thing) && !folded.value.has(thing.path)
  const above = upwards(thing.path)
    .slice(1)
    .map(indexOf)
    .find((found) => found >= 0)
  const acts: Record<string, () => void> = {
    ArrowDown: () => void goTo(index + 1),
    ArrowUp: () => void goTo(index - 1),
    Home: () => void goTo(0),
    End: () => void goTo(rows.value.length - 1),
    ArrowRight: () => (isOpen ? void goTo(index + 1) : isContainer(thing) && fold(thing.path, false)),
    ArrowLeft: () => (isOpen ? fold(thing.path, true) : void (above !== undefined && goTo(above))),
    Enter: () => choose(thing),
    ' ': () =>
      (event.currentTarget as HTMLElement).querySelector<HTMLElement>(`[data-path="${CSS.escape(thing.path)}"] [role=checkbox]`)?.click(),
  }
  // A button or a box within a row has its own.
  const isOnRow = event.target instanceof Element && event.target.closest('[role=treeitem]') === event.target
  if (!acts[event.key] || !isOnRow) return
  event.preventDefault()
  acts[event.key]!()
}
</script>

<template>
  <section class="flex min-h-0 flex-col border-r border-[var(--line)]" aria-label="What is in the point">
    <div class="soft mx-6 mt-2 flex h-8 items-center gap-2 border-b border-[var(--edge)] text-[13px]">
      <UIcon name="i-lucide-search" class="size-3.5 shrink-0" />
      <input
        v-model="filter"
        :placeholder="plural(things.length, 'thing')"
        aria-label="Filter"
        class="w-full bg-transparent text-[var(--ink)] placeholder:text-[var(--soft)]"
      />
      <slot name="tools" />
    </div>
    <div v-if="pending && rows.length === 0" class="grid gap-2 p-6">
      <USkeleton v-for="i in 9" :key="i" class="h-5" />
    </div>
    <div ref="scroller" class="mt-2 min-h-0 flex-1 overflow-y-auto pb-4">
      <div
        v-if="rows.length > 0"
        class="relative"
        role="tree"
        aria-label="Things"
        aria-multiselectable="true"
        :style="{ height: `${virtual.getTotalSize()}px` }"
        @keydown="onKey"
      >
        <div
          v-for="{ thing, index, start, depth, isFolded } in drawn"
          :key="thing.path"
          role="treeitem"
          data-row
          :data-path="thing.path"
          :tabindex="current === index ? 0 : -1"
          :aria-level="depth + 1"
          :aria-expanded="isContainer(thing) ? !isFolded : undefined"
          :aria-selected="shown === thing.path"
          class="absolute inset-x-0 flex h-[27px] items-center gap-2 pr-4 text-[13px] focus-visible:outline-offset-[-2px]"
          :style="{ transform: `translateY(${start}px)`, paddingLeft: `${24 + depth * 20}px` }"
          :class="shown === thing.path ? 'bg-[var(--sheet)] shadow-[inset_3px_0_0_var(--ink)]' : 'hover:bg-[var(--wash)]'"
          @focus="at = thing.path"
        >
          <button
            v-if="isContainer(thing)"
            tabindex="-1"
            :aria-label="`${isFolded ? 'Unfold' : 'Fold'} ${thing.name}`"
            class="grid w-3.5 place-items-center"
            @click="fold(thing.path)"
          >
            <UIcon :name="isFolded ? 'i-lucide-chevron-right' : 'i-lucide-chevron-down'" class="size-3.5" />
          </button>
          <slot name="before" :thing="thing" />
          <button
            tabindex="-1"
            class="mono cut flex-1 text-left"
            :class="depth === 0 ? 'font-semibold' : ''"
            :title="thing.name"
            :disabled="!choosable(thing)"
            @click="choose(thing)"
          >
            {{ thing.name }}
          </button>
          <slot name="behind" :thing="thing" />
        </div>
      </div>
      <p v-if="rows.length === 0 && filter" class="soft px-6 text-[13px]">Nothing here has this name.</p>
    </div>
  </section>
</template>
