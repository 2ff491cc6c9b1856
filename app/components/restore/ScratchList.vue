<script setup lang="ts">
import type { ErrorRecord } from '~~/core/errors'
import type { RestoresView } from '~~/server/views'

const { copies, ofRun = null } = defineProps<{ copies: RestoresView['scratch']; ofRun?: string | null }>()
const now = useTicking(30_000)
const shown = ref<Record<string, string>>({})
const failure = shallowRef<ErrorRecord | null>(null)
async function connect(id: string) {
  try {
    const { connection } = await $fetch<{ connection: string }>(`/api/scratch/${id}/connection`)
    shown.value = { ...shown.value, [id]: connection }
  } catch (thrown) {
    failure.value = errorOf(thrown)
  }
}
const ask = useAsk()
async function drop({ id, database }: { id: string; database: string }) {
  const question = {
    title: `Drop ${database}?`,
    text: 'All that is in this copy is lost, also what was written into it since.',
    yes: 'Drop it',
  }
  if (!(await ask(question))) return
  await $fetch(`/api/scratch/${id}`, { method: 'DELETE' }).catch((thrown) => (failure.value = errorOf(thrown)))
}
const left = (expires: string) => Date.parse(expires) - now.value
</script>

<template>
  <section v-if="copies.length > 0" aria-label="Scratch copies">
    <h2 class="flex items-baseline justify-between border-b border-[var(--line)] pb-1.5 text-[13px]">
      <span class="font-semibold">Scratch copies</span><span class="soft s12">each goes by itself when its time is over</span>
    </h2>
    <ErrorNote v-if="failure" :error="failure" class="mt-2" />
    <ul class="rule text-[13px]">
      <li v-for="copy in copies" :key="copy.id" class="py-2" data-scratch>
        <div class="flex items-center gap-4">
          <span class="mono cut font-semibold">{{ copy.database }}</span>
          <span class="soft">on {{ copy.source }}</span>
          <span v-if="copy.state === 'making'">being made</span>
          <span v-else :class="left(copy.expiresAt) < 3_600_000 ? 'warning' : ''" :title="fullOf(copy.expiresAt)"
            >gone {{ left(copy.expiresAt) > 0 ? `in ${durationInWords(left(copy.expiresAt))}` : 'any moment' }}</span
          >
          <span class="ml-auto flex gap-2.5">
            <UButton v-if="copy.state === 'ready'" size="sm" @click="connect(copy.id)">Show the connection string</UButton>
            <UButton v-if="copy.run !== ofRun" size="sm" :to="`/runs/${copy.run}`">Open the receipt</UButton>
            <UButton size="sm" @click="drop(copy)">Drop now…</UButton>
          </span>
        </div>
        <div v-if="shown[copy.id]" class="mt-1.5 flex items-center gap-3 bg-[var(--wash)] px-3 py-1.5">
          <pre class="mono min-w-0 flex-1 overflow-x-auto text-[12px]" data-connection>{{ shown[copy.id] }}</pre>
          <CopyIt :text="shown[copy.id]!" label="Copy the connection string" />
        </div>
        <p v-if="copy.trouble" class="error mt-1">{{ copy.trouble.what }}</p>
      </li>
    </ul>
  </section>
</template>
