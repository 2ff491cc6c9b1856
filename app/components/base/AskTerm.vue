<script setup lang="ts">
import type { PauseForm, PinForm } from '~~/core/asked'

// Why something is done, and how long it holds; sent to an address.
const { address, schema, terms } = defineProps<{
  title: string
  description: string
  /** What the button says that does it. */
  yes: string
  address: string
  schema: typeof PauseForm | typeof PinForm
  placeholder: string
  /** In milliseconds; the first, without any, holds until somebody ends it. */
  terms: { label: string; ms: number | null }[]
}>()
const open = defineModel<boolean>('open', { required: true })
const form = reactive({ reason: '' })
const chosen = ref('0')
const id = useId()
const items = computed(() => terms.map(({ label }, i) => ({ label, value: String(i) })))
const { sending, error, send } = useSending()
async function done() {
  const { ms } = terms[Number(chosen.value)]!
  const until = ms === null ? null : new Date(Date.now() + ms).toISOString()
  if (await send(() => post(address, { reason: form.reason, until }))) open.value = false
}
</script>

<template>
  <UModal v-model:open="open" :close="{ variant: 'ghost' }" :title="title" :description="description">
    <template #body>
      <UForm :id="id" :schema="schema" :state="form" class="grid gap-4" @submit="done">
        <UFormField label="Reason" name="reason"
          ><UInput v-model="form.reason" name="reason" class="w-full" :placeholder="placeholder" :maxlength="400" autofocus
        /></UFormField>
        <UFormField label="How long"
          ><USelect v-model="chosen" :items="items" value-key="value" class="w-72" aria-label="How long"
        /></UFormField>
        <ErrorNote v-if="error" :error="error" />
      </UForm>
    </template>
    <template #footer>
      <UButton type="submit" :form="id" color="primary" variant="solid" :loading="sending" data-yes>{{ yes }}</UButton>
      <UButton @click="open = false">Cancel</UButton>
    </template>
  </UModal>
</template>
