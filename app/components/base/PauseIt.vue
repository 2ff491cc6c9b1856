<script setup lang="ts">
import { PauseForm } from '~~/core/asked'

// A vessel, all of a source, or everything is paused: why, and until when.
const { address, name } = defineProps<{ address: string; name: string }>()
const open = defineModel<boolean>('open', { required: true })
const form = reactive({ reason: '' })
const until = ref('resumed')
const { sending, error, send } = useSending()
const HOUR = 3_600_000
const UNTIL = [
  { label: 'until somebody resumes it', value: 'resumed' },
  { label: 'for an hour', value: String(HOUR) },
  { label: 'for 12 hours', value: String(12 * HOUR) },
  { label: 'for 2 days', value: String(48 * HOUR) },
  { label: 'for a week', value: String(168 * HOUR) },
]
async function pause() {
  const end = until.value === 'resumed' ? null : new Date(Date.now() + Number(until.value)).toISOString()
  if (await send(() => post(address, { reason: form.reason, until: end }))) open.value = false
}
</script>

<template>
  <UModal
    v-model:open="open"
    :close="{ variant: 'ghost' }"
    :title="`Pause ${name}`"
    description="Nothing is made by itself meanwhile, and promises do not count. Logs go on, and what somebody starts is done."
  >
    <template #body>
      <UForm id="pause" :schema="PauseForm" :state="form" class="grid gap-4" @submit="pause">
        <UFormField label="Reason" name="reason"
          ><UInput
            v-model="form.reason"
            name="reason"
            class="w-full"
            placeholder="the server moves this weekend"
            :maxlength="400"
            autofocus
        /></UFormField>
        <UFormField label="How long"
          ><USelect v-model="until" :items="UNTIL" value-key="value" class="w-64" aria-label="How long"
        /></UFormField>
        <ErrorNote v-if="error" :error="error" />
      </UForm>
    </template>
    <template #footer>
      <UButton type="submit" form="pause" color="primary" variant="solid" :loading="sending">Pause</UButton>
      <UButton @click="open = false">Cancel</UButton>
    </template>
  </UModal>
</template>
