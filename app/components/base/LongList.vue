<script setup lang="ts" generic="T">
import { observeWindowOffset, observeWindowRect, useVirtualizer, windowScroll } from '@tanstack/vue-virtual'
import type { ComponentPublicInstance } from 'vue'

/**
 * A list of which only what is in view is drawn, however long it is; its rows may differ in height. It scrolls with
 * whatever it stands in. Short lists, and all of it for the printer, are drawn whole.
 */
const {
  items,
  keyOf,
  rowHeight,
  as = 'ul',
  columns = 1,
} = defineProps<{
  items: readonly T[]
  keyOf: (item: T) => string | number
  /** How high a row is, about, in pixels. */
  rowHeight: number
  as?: 'ul' | 'ol' | 'div' | 'tbody'
  /** Of a table. */
  columns?: number
}>()
const WHOLE = 100
const root = useTemplateRef<HTMLElement>('root')
const scroller = shallowRef<HTMLElement | null>(null)
/** How far below the top of what scrolls it begins. */
const above = ref(0)
const printing = ref(false)
useEventListener('beforeprint', () => (printing.value = true))
useEventListener('afterprint', () => (printing.value = false))
const isWhole = computed(() => printing.value || items.length <= WHOLE)

/** What grows with its content scrolls nothing. */
function scrollerOf(element: HTMLElement): HTMLElement {
  for (let at = element.parentElement; at; at = at.parentElement)
    if (at.scrollHeight > at.clientHeight + 1 && /auto|scroll/.test(getComputedStyle(at).overflowY)) return at
  return document.documentElement
}
const topOf = (element: HTMLElement) => (element === document.documentElement ? 0 : element.getBoundingClientRect().top)
function place(): void {
  if (!root.value || isWhole.value) return
  scroller.value = scrollerOf(root.value)
  above.value = root.value.getBoundingClientRect().top - topOf(scroller.value) + scroller.value.scrollTop
}
onMounted(place)
useResizeObserver(root, place)
watch(() => items, place, { flush: 'post' })

// The page as a whole tells where it is in another way than what scrolls within it; the types know only the latter.
const OF_PAGE = {
  getScrollElement: () => window as unknown as Element,
  observeElementRect: observeWindowRect as never,
  observeElementOffset: observeWindowOffset as never,
  scrollToFn: windowScroll as never,
}

const virtual = useVirtualizer(
  computed(() => ({
    count: items.length,
    enabled: !isWhole.value,
    getScrollElement: () => scroller.value,
    estimateSize: () => rowHeight,
    getItemKey: (i: number) => keyOf(items[i]!),
    scrollMargin: above.value,
    overscan: 12,
    ...(scroller.value === document.documentElement ? OF_PAGE : {}),
  })),
)
const drawn = computed(() => virtual.value.getVirtualItems())
const rows = computed(() =>
  isWhole.value
    ? items.map((item, index) => ({ item, index }))
    : drawn.value.flatMap(({ index }) => (index < items.length ? [{ item: items[index]!, index }] : [])),
)
const before = computed(() => (isWhole.value ? 0 : Math.max(0, (drawn.value[0]?.start ?? above.value) - above.value)))
const after = computed(() =>
  isWhole.value ? 0 : Math.max(0, virtual.value.getTotalSize() - ((drawn.value.at(-1)?.end ?? above.value) - above.value)),
)
const measure = (element: Element | ComponentPublicInstance | null) => {
  if (!isWhole.value && element instanceof Element) virtual.value.measureElement(element)
}
const padding = computed(() =>
  as === 'tbody' || isWhole.value ? {} : { paddingTop: `${before.value}px`, paddingBottom: `${after.value}px` },
)
</script>

<template>
  <component :is="as" ref="root" :style="padding">
    <tr v-if="as === 'tbody' && before > 0" aria-hidden="true">
      <td :colspan="columns" :style="{ height: `${before}px`, padding: 0 }" />
    </tr>
    <template v-for="{ item, index } in rows" :key="keyOf(item)">
      <slot :item="item" :index="index" :row="{ ref: measure, 'data-index': index }" />
    </template>
    <tr v-if="as === 'tbody' && after > 0" aria-hidden="true">
      <td :colspan="columns" :style="{ height: `${after}px`, padding: 0 }" />
    </tr>
  </component>
</template>
