<script setup lang="ts">
import type { PointThing, TableComparison } from '~~/server/views'

const { comparison } = defineProps<{ comparison: TableComparison | null }>()
const bench = useWorkbench()
const shown = defineModel<string | null>({ required: true })

/** Names of kinds that are long. */
const SHORT: Record<string, string> = { PersistentVolumeClaim: 'claim', CustomResourceDefinition: 'definition', ServiceAccount: 'account' }

/** What a thing became since, as far as is known; exact for the one that is compared. */
function since(thing: PointThing): { text: string; color: string } {
  const kind = isObject(thing) ? (SHORT[thing.kind] ?? thing.kind) : thing.kind === 'volume' ? 'volume' : ''
  if (thing.unknown !== undefined) return { text: sizeOf(thing), color: 'var(--error)' }
  if (thing.there === false) return { text: kind ? `${kind} gone` : 'gone', color: 'var(--error)' }
  if (comparison?.path === thing.path && comparison.rows && !comparison.against) {
    const { gone, fresh, changed } = comparison.rows
    if (gone > 0) return { text: `−${countInWords(gone)}`, color: 'var(--error)' }
    if (fresh > 0) return { text: `+${countInWords(fresh)}`, color: 'var(--ink)' }
    return changed > 0 ? { text: `≠${countInWords(changed)}`, color: 'var(--warning-text)' } : { text: '=', color: 'var(--soft)' }
  }
  return { text: sizeOf(thing), color: thing.asOf === undefined ? 'var(--soft)' : 'var(--warning-text)' }
}
</script>

<template>
  <PointTree
    v-model="shown"
    :things="bench.things"
    :pending="bench.contentsPending"
    :choosable="(thing) => isTable(thing) || isObject(thing) || thing.kind === 'volume'"
  >
    <template #tools><PickByKind /></template>
    <template #before="{ thing }">
      <UCheckbox
        tabindex="-1"
        :model-value="bench.stateOf(thing)"
        :aria-label="`Restore ${thing.name}`"
        @update:model-value="bench.toggle(thing)"
      />
    </template>
    <template #behind="{ thing }">
      <span class="num shrink-0 text-[12px]" :style="{ color: since(thing).color }" :title="whyOf(thing)">{{ since(thing).text }}</span>
    </template>
  </PointTree>
</template>
