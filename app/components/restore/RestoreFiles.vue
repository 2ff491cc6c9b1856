<script setup lang="ts">
import type { VolumeComparison } from '~~/server/views'

// Files of a volume then, and now or in another point, with check boxes for single ones.
const { point, path, against } = defineProps<{
  point: string
  path: string
  against: string | null
}>()
const bench = useWorkbench()
const { data, error } = useLoad<VolumeComparison>(
  () => `${pointUrl(point)}/compare-files?${new URLSearchParams({ path, ...(against ? { against } : {}) })}`,
  { tells: true },
)
const isCompared = computed(() => data.value?.trouble === null)
const filter = ref('')
const files = computed(() => (data.value?.files ?? []).filter((file) => file.path.toLowerCase().includes(filter.value.toLowerCase())))
const MARK = {
  gone: ['gone', 'var(--error)'],
  changed: ['changed', 'var(--warning-text)'],
  new: ['new', 'var(--ink)'],
  same: ['same', 'var(--soft)'],
} as const
const picked = computed(() => bench.choices.cluster.files[path] ?? [])
const isWhole = computed(() => bench.picks.has(path) && picked.value.length === 0)
const toggle = (file: string) =>
  bench.pickFiles(path, picked.value.includes(file) ? picked.value.filter((name) => name !== file) : [...picked.value, file])
const sizes = ({ before, now }: (typeof files.value)[number]) =>
  before && now && before.size !== now.size
    ? `${bytesInWords(before.size)} → ${bytesInWords(now.size)}`
    : bytesInWords((before ?? now)!.size)
const SHOWN = 400
</script>

<template>
  <div
    class="min-h-0 flex-1 overflow-auto focus-visible:outline-offset-[-2px]"
    tabindex="0"
    role="region"
    aria-label="Files then and now"
    data-compare-files
  >
    <ErrorNote v-if="error" :error="error" class="m-4" />
    <div v-else-if="!data" class="grid gap-2 p-4">
      <p v-if="!against" class="soft text-[13px]">Looking into the volume…</p>
      <USkeleton v-for="i in 8" :key="i" class="h-5" />
    </div>
    <template v-else>
      <div class="flex items-center gap-4 px-4 py-2.5 text-[13px]">
        <span v-if="!isCompared" class="soft">{{ plural(files.length, 'file') }}, as they were then.</span>
        <span v-else
          >Beside {{ data.against.id === null ? 'the volume as it is now' : `the point of ${whenOf(data.against.at)}` }}:
          <template v-if="data.counts.gone + data.counts.changed + data.counts.new === 0">all the same.</template>
          <template v-else
            ><span class="error">{{ countInWords(data.counts.gone) }} gone</span>,
            <span class="warning">{{ countInWords(data.counts.changed) }} changed</span>, {{ countInWords(data.counts.new) }} new,
            {{ countInWords(data.counts.same) }} the same</template
          ></span
        >
        <UInput v-model="filter" placeholder="part of a name" size="sm" class="ml-auto w-40" aria-label="Only files whose name has" />
      </div>
      <p v-if="data.trouble" class="warning px-4 pb-2 text-[13px]" data-trouble>What is in it now is not known. {{ data.trouble.what }}</p>
      <p v-if="isWhole" class="soft px-4 pb-2 text-[13px]">The whole volume is picked; tick single files to restore only those.</p>
      <table class="table-fixed text-[13px]">
        <tbody class="rule border-y border-[var(--line)]">
          <tr v-for="file in files.slice(0, SHOWN)" :key="file.path" class="h-[27px]" data-file :data-mark="file.mark">
            <td class="w-10 pl-4">
              <UCheckbox
                v-if="file.before"
                :model-value="picked.includes(file.path)"
                :aria-label="`Restore ${file.path}`"
                @update:model-value="toggle(file.path)"
              />
            </td>
            <td class="mono cut pr-3" :title="file.path">{{ file.path }}</td>
            <td class="w-20" :style="{ color: MARK[file.mark][1] }">{{ isCompared ? MARK[file.mark][0] : '' }}</td>
            <td class="num w-40 pr-4">{{ sizes(file) }}</td>
          </tr>
        </tbody>
      </table>
      <p v-if="files.length > SHOWN || data.more" class="soft px-4 py-2 text-[13px]">There are more; write a part of the name.</p>
      <p v-if="files.length === 0" class="soft px-4 py-2 text-[13px]">No file has this in its name.</p>
    </template>
  </div>
</template>
