<script setup lang="ts">
import type { ManifestComparison } from '~~/server/views'

// An object then and now: the fields that differ, and the whole manifest below them.
const { point, path, against } = defineProps<{ point: string; path: string; against: string | null }>()
const { data, error } = useLoad<ManifestComparison>(
  () => `${pointUrl(point)}/compare-manifest?${new URLSearchParams({ path, ...(against ? { against } : {}) })}`,
  { tells: true },
)
</script>

<template>
  <div
    class="min-h-0 flex-1 overflow-auto focus-visible:outline-offset-[-2px]"
    tabindex="0"
    role="region"
    aria-label="The object then and now"
    data-compare-manifest
  >
    <ErrorNote v-if="error" :error="error" class="m-4" />
    <div v-else-if="!data" class="grid gap-2 p-4"><USkeleton v-for="i in 8" :key="i" class="h-5" /></div>
    <template v-else>
      <p class="px-4 py-3 text-[13px]">
        <span v-if="data.now === null" class="error font-semibold">It is not there any more.</span>
        <span v-else-if="data.fields.length === 0" class="border-b-2 border-[var(--gold-line)]">It is the same as then.</span>
        <span v-else
          ><b class="warning font-semibold">{{ plural(data.fields.length, 'field') }}</b> {{ data.fields.length === 1 ? 'is' : 'are' }} not
          as then.</span
        >
      </p>
      <table v-if="data.fields.length > 0" class="table-fixed text-[12.5px]">
        <thead>
          <tr class="h-7">
            <th class="w-[36%] pl-4">Field</th>
            <th>Then</th>
            <th>Now</th>
          </tr>
        </thead>
        <tbody class="rule border-y border-[var(--line)]">
          <tr v-for="field in data.fields" :key="field.field" class="align-top" data-field>
            <td class="mono py-1.5 pr-3 pl-4 break-words">{{ field.field }}</td>
            <td class="mono py-1.5 pr-3 break-words">
              {{ field.before ?? '' }}<span v-if="field.before === null" class="soft">not there</span>
            </td>
            <td class="mono warning py-1.5 pr-4 break-words">
              {{ field.now ?? '' }}<span v-if="field.now === null" class="error">gone</span>
            </td>
          </tr>
        </tbody>
      </table>
      <pre class="mono px-4 py-3 text-[12px] leading-[18px] whitespace-pre-wrap">{{ data.before }}</pre>
    </template>
  </div>
</template>
