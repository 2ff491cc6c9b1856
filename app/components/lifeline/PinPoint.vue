<script setup lang="ts">
import { PinForm } from '~~/core/asked'
import type { LifelinePoint } from '~/utils/points'

// A point is pinned: why, and until when.
const { point } = defineProps<{ point: LifelinePoint }>()
const emit = defineEmits<{ close: [] }>()
const form = reactive({ reason: '' })
const until = ref('unpinned')
const DAY = 86_400_000
const UNTIL = [
  { label: 'until somebody takes the pin back', value: 'unpinned' },
  { label: 'for 7 days', value: String(7 * DAY) },
  { label: 'for 30 days', value: String(30 * DAY) },
  { label: 'for a year', value: String(365 * DAY) },
]
const { sending, error, send } = useSending()
async function pin() {
  const end = until.value === 'unpinned' ? null : new Date(Date.now() + Number(until.value)).toISOString()
  if (await send(() => post(`/api/points/${point.id}/pin`, { reason: form.reason, until: end }))) emit('close')
}
</script>

<template>
  <UModal
    open
    :close="{ variant: 'ghost' }"
    :title="`Pin the point of ${whenOf(point.at)}`"
    description="It stays whatever the rules say, with all that it builds on."
    @update:open="emit('close')"
  >
    <template #body>
      <UForm id="pin" :schema="PinForm" :state="form" class="grid gap-4" @submit="pin">
        <UFormField label="Reason" name="reason"
          ><UInput v-model="form.reason" name="reason" class="w-full" placeholder="before the fare change" :maxlength="400" autofocus
        /></UFormField>
        <UFormField label="How long"
          ><USelect v-model="until" :items="UNTIL" value-key="value" class="w-72" aria-label="How long"
        /></UFormField>
        <ErrorNote v-if="error" :error="error" />
      </UForm>
    </template>
    <template #footer>
      <UButton type="submit" form="pin" color="primary" variant="solid" :loading="sending">Pin</UButton>
      <UButton @click="emit('close')">Cancel</UButton>
    </template>
  </UModal>
</template>
