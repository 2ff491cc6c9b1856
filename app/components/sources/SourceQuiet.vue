<script setup lang="ts">
import { quietTroubles, type QuietTime } from '~~/core/plan/quiet'
import { daysInWords } from '~~/core/plan/words'
import type { SourceView } from '~~/server/views'

// When no plan begins anything at a source.
const { source } = defineProps<{ source: SourceView }>()
const open = ref(false)
const times = ref<QuietTime[]>([])
const { sending, error, send } = useSending()
const troubles = computed(() => quietTroubles(times.value))
const words = computed(() =>
  source.quiet.map(({ days, from, to, zone }) => `${daysInWords({ of: 'week', days })} ${from} to ${to} (${zone})`),
)
const add = () => void times.value.push({ zone: zoneInUse.value, from: '08:00', to: '18:00', days: [1, 2, 3, 4, 5] })
function change() {
  times.value = JSON.parse(JSON.stringify(source.quiet)) as QuietTime[]
  if (times.value.length === 0) add()
  open.value = true
}
async function save() {
  if (await send(() => $fetch(`/api/sources/${source.id}/quiet`, { method: 'PUT', body: { times: times.value } }))) open.value = false
}
</script>

<template>
  <div class="soft mt-1.5" data-quiet>
    {{ words.length > 0 ? `No plan begins anything there ${listInWords(words)}.` : 'Plans may begin there at any time.' }}
    <button class="lnk text-[var(--ink)]" data-quiet-change @click="change">Change…</button>
    <UModal
      v-model:open="open"
      :close="{ variant: 'ghost' }"
      :title="`When no plan begins anything at ${source.name}`"
      description="What is due then waits until it may begin, or is missed if its window closes before. What goes on is finished, and what somebody starts begins at once."
    >
      <template #body>
        <div class="grid gap-3 text-[13px]">
          <div v-for="(time, i) in times" :key="i" class="flex flex-wrap items-center gap-2 border-b border-[var(--line)] pb-3">
            <WeekdayChoice v-model="time.days" class="basis-full" />
            <UInput v-model="time.from" class="w-20" :aria-label="`From, of time ${i + 1}`" /><span class="soft">to</span>
            <UInput v-model="time.to" class="w-20" :aria-label="`To, of time ${i + 1}`" />
            <UButton size="sm" variant="ghost" icon="i-lucide-x" :aria-label="`Remove time ${i + 1}`" @click="times.splice(i, 1)" />
            <span class="soft order-first basis-full">by the clock of {{ time.zone }}</span>
          </div>
          <p><UButton size="sm" @click="add">Add a time</UButton></p>
          <p v-for="trouble in troubles" :key="trouble" class="warning">{{ trouble }}</p>
          <ErrorNote v-if="error" :error="error" />
        </div>
      </template>
      <template #footer>
        <UButton color="primary" variant="solid" :loading="sending" :disabled="troubles.length > 0" data-quiet-save @click="save"
          >Save</UButton
        >
        <UButton @click="open = false">Cancel</UButton>
      </template>
    </UModal>
  </div>
</template>
