<script setup lang="ts">
import { useVirtualizer } from '@tanstack/vue-virtual'
import { namesOf, upwards } from '~~/core/things/thing'
import type { PointThing } from '~~/server/views'

// The tree of what is in a point. What stands before and behind a name is the caller's.
const { things, pending, choosable } = defineProps<{ things: PointThing[]; pending: boolean; choosable: (thing: PointThing) => boolean }>()
const shown = defineModel<string | null>({ required: true })
const filter = ref('')
const folded = ref<Set<string>>(new Set())

// What is in a namespace is in it directly, however long its path.
const depthOf = (thing: PointThing) => (isObject(thing) || thing.kind === 'volume' ? 1 : namesOf(thing.path).length - 2)
const rows = computed(() => {
  const text = filter.value.trim().toLowerCase()
  if (text) {
    const matching = things.filter((thing) => !isContainer(thing) && thing.name.toLowerCase().includes(text))
    const above = new Set(matching.flatMap(({ path }) => upwards(path)))
    return things.filter(({ path }) => above.has(path))
  }
  return folded.value.size === 0 ? things : things.filter(({ path }) => !upwards(path).some((one) => one !== path && folded.value.has(one)))
})
const scroller = useTemplateRef<HTMLElement>('scroller')
const virtual = useVirtualizer(
  computed(() => ({ count: rows.value.length, getScrollElement: () => scroller.value, estimateSize: () => 27, overscan: 12 })),
)
// What is shown is in view when the tree opens.
watch(
  () => rows.value.findIndex(({ path }) => path === shown.value),
  (index, before) => index >= 0 && before === undefined && nextTick(() => virtual.value.scrollToIndex(index, { align: 'auto' })),
  { immediate: true },
)

function fold(path: string) {
  const next = new Set(folded.value)
  if (!next.delete(path)) next.add(path)
  folded.value = next
}
</script>

<template>
  <section class="flex min-h-0 flex-col border-r border-[var(--line)]" aria-label="What is in the point">
    <label class="soft mx-6 mt-2 flex h-8 items-center gap-2 border-b border-[var(--edge)] text-[13px]">
      <UIcon name="i-lucide-search" class="size-3.5 shrink-0" />
      <input
        v-model="filter"
        :placeholder="`${plural(things.length, 'thing')} in this point`"
        aria-label="Filter"
        class="w-full bg-transparent text-[var(--ink)] outline-none placeholder:text-[var(--soft)]"
      />
    </label>
    <div v-if="pending && rows.length === 0" class="grid gap-2 p-6">
      <USkeleton v-for="i in 9" :key="i" class="h-5" />
    </div>
    <div ref="scroller" class="mt-2 min-h-0 flex-1 overflow-y-auto pb-4" role="tree" aria-multiselectable="true">
      <div class="relative" :style="{ height: `${virtual.getTotalSize()}px` }">
        <div
          v-for="item in virtual.getVirtualItems()"
          :key="rows[item.index]!.path"
          role="treeitem"
          data-row
          :data-path="rows[item.index]!.path"
          :aria-level="depthOf(rows[item.index]!) + 1"
          :aria-selected="shown === rows[item.index]!.path"
          class="absolute inset-x-0 flex h-[27px] items-center gap-2 pr-4 text-[13px]"
          :style="{ transform: `translateY(${item.start}px)`, paddingLeft: `${24 + depthOf(rows[item.index]!) * 20}px` }"
          :class="shown === rows[item.index]!.path ? 'bg-[var(--sheet)] shadow-[inset_3px_0_0_var(--ink)]' : 'hover:bg-[var(--wash)]'"
        >
          <button
            v-if="isContainer(rows[item.index]!)"
            :aria-label="folded.has(rows[item.index]!.path) ? 'Unfold' : 'Fold'"
            class="grid w-3.5 place-items-center"
            @click="fold(rows[item.index]!.path)"
          >
            <UIcon :name="folded.has(rows[item.index]!.path) ? 'i-lucide-chevron-right' : 'i-lucide-chevron-down'" class="size-3.5" />
          </button>
          <slot name="before" :thing="rows[item.index]!" />
          <button
            class="mono cut flex-1 text-left"
            :class="depthOf(rows[item.index]!) === 0 ? 'font-semibold' : ''"
            :title="rows[item.index]!.name"
            :disabled="!choosable(rows[item.index]!)"
            @click="shown = rows[item.index]!.path"
          >
            {{ rows[item.index]!.name }}
          </button>
          <slot name="behind" :thing="rows[item.index]!" />
        </div>
      </div>
      <p v-if="rows.length === 0 && filter" class="soft px-6 text-[13px]">Nothing here is called so.</p>
    </div>
  </section>
</template>
