<script setup lang="ts">
import type { ErrorRecord } from '~~/core/errors'
import type { PointSighting, RowHistory } from '~~/server/views'

// One row, or all rows with a value, from point to point.
const { slug, path, columns, keyColumn } = defineProps<{ slug: string; path: string; columns: string[]; keyColumn: string | null }>()
const asked = defineModel<{ column: string; value: string }>({ required: true })
const emit = defineEmits<{ point: [id: string] }>()
const draft = reactive({ column: asked.value.column || keyColumn || columns[0] || '', value: asked.value.value })
watch(
  () => path,
  () => Object.assign(draft, { column: keyColumn ?? columns[0] ?? '', value: '' }),
)
const points = shallowRef<PointSighting[]>([])
const before = ref<string | null>(null)
const troubles = shallowRef<RowHistory['troubles']>([])
const error = shallowRef<ErrorRecord | null>(null)
const pending = ref(false)
const done = ref(false)

async function look(older = false) {
  if (!draft.column || draft.value === '') return
  asked.value = { ...draft }
  pending.value = true
  if (!older) points.value = []
  try {
    const query = new URLSearchParams({ path, ...draft, ...(older && before.value ? { before: before.value } : {}) })
    const answer = await $fetch<RowHistory>(`/api/vessels/${slug}/history?${query}`)
    points.value = older ? [...points.value, ...answer.points] : answer.points
    before.value = answer.before
    troubles.value = answer.troubles
    error.value = null
    done.value = true
  } catch (thrown) {
    error.value = errorOf(thrown)
  } finally {
    pending.value = false
  }
}
onMounted(() => asked.value.value !== '' && look())

const FATE: Record<PointSighting['fate'], { word: string; color: string; mark: 'same' | 'gone' | 'changed' | 'new' }> = {
  first: { word: 'is there', color: 'var(--ink)', mark: 'new' },
  appeared: { word: 'appears', color: 'var(--glaze)', mark: 'new' },
  same: { word: 'the same', color: 'var(--soft)', mark: 'same' },
  changed: { word: 'changed', color: 'var(--warning-text)', mark: 'changed' },
  gone: { word: 'gone', color: 'var(--error)', mark: 'gone' },
  absent: { word: 'not there', color: 'var(--soft)', mark: 'gone' },
  'no table': { word: 'no such table or column', color: 'var(--soft)', mark: 'gone' },
}
/** Points in a row in which nothing changed are told once. */
const runs = computed(() => {
  const all: { point: PointSighting; more: PointSighting[] }[] = []
  for (const point of points.value) {
    const last = all.at(-1)
    const quiet = point.fate === 'same' || point.fate === 'absent' || point.fate === 'no table'
    if (last && quiet && last.point.fate === point.fate) last.more.push(point)
    else all.push({ point, more: [] })
  }
  return all
})
const holding = computed(() => points.value.filter(({ rows }) => rows.length > 0).length)
</script>

<template>
  <div class="flex min-h-0 flex-1 flex-col text-[13px]">
    <form class="flex min-h-[42px] shrink-0 items-center gap-2 border-b border-[var(--line)] px-4" @submit.prevent="look()">
      <span class="soft">Rows whose</span>
      <USelectMenu v-model="draft.column" :items="columns" size="sm" class="w-44" aria-label="Column to find by" />
      <span class="soft">is</span>
      <UInput v-model="draft.value" name="history-value" size="sm" class="w-56" aria-label="Value to find" />
      <UButton type="submit" size="sm" :loading="pending">Find across time</UButton>
    </form>
    <div class="min-h-0 flex-1 overflow-auto" aria-live="polite">
      <ErrorNote v-if="error" :error="error" class="m-4" />
      <p v-else-if="!done && !pending" class="soft px-4 py-3">
        Every point is searched for the value, and what became of the row from point to point is shown here.
      </p>
      <div v-else-if="pending && points.length === 0" class="grid gap-2 p-4"><USkeleton v-for="i in 8" :key="i" class="h-6" /></div>
      <template v-else>
        <p class="px-4 pt-3 pb-2" data-history-sentence>
          <b class="font-semibold">{{ holding === 0 ? 'It is in none' : `It is in ${countInWords(holding)}` }}</b> of the
          {{ before ? 'newest ' : '' }}{{ plural(points.length, 'point') }}.
        </p>
        <ol class="rule border-t border-[var(--line)]">
          <li
            v-for="{ point, more } in runs"
            :key="point.id"
            class="grid grid-cols-[150px_34px_1fr] gap-x-2 px-4 py-2"
            data-sighting
            :data-fate="point.fate"
          >
            <button class="self-start text-left leading-[18px] hover:underline" :title="fullOf(point.at)" @click="emit('point', point.id)">
              {{ whenOf(point.at) }}
              <span v-if="more.length > 0" class="soft block text-[12px]">back to {{ whenOf(more.at(-1)!.at) }}</span>
            </button>
            <RowThread :mark="FATE[point.fate].mark" side="now" class="mt-0.5" />
            <div class="min-w-0">
              <span class="font-semibold" :style="{ color: FATE[point.fate].color }">{{ FATE[point.fate].word }}</span><span
                v-if="more.length > 0"
                class="soft"
                >, in {{ plural(more.length + 1, 'point') }}</span
              ><span v-if="point.changed.length > 0" class="soft">: {{ point.changed.join(', ') }}</span>
              <template v-if="point.fate !== 'same'">
                <div
                  v-for="(row, i) in point.rows.slice(0, 4)"
                  :key="i"
                  class="mono mt-1 flex flex-wrap gap-x-4 text-[12.5px] leading-[18px]"
                >
                  <span v-for="(column, c) in point.columns" :key="column" class="max-w-72 truncate">
                    <span class="soft pr-1.5">{{ column }}</span><span
                      :class="point.changed.includes(column) ? 'warning font-semibold' : ''"
                      >{{ row[c] ?? '∅' }}</span
                    >
                  </span>
                </div>
                <p v-if="point.more || point.rows.length > 4" class="soft mt-1 text-[12px]">and more rows</p>
              </template>
            </div>
          </li>
        </ol>
        <p v-for="trouble in troubles" :key="trouble.at" class="warning px-4 py-2">
          {{ whenOf(trouble.at) }} could not be read: {{ trouble.error.what }}
        </p>
        <UButton v-if="before" size="sm" class="m-4" :loading="pending" @click="look(true)">Older points</UButton>
      </template>
    </div>
  </div>
</template>
