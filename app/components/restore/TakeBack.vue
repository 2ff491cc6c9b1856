<script setup lang="ts">
import { Reason } from '~~/core/asked'
import type { ErrorRecord } from '~~/core/errors'
import type { RunDetail } from '~~/server/views'

// Takes a restore back: what it overwrote goes to where it stood.
const { run } = defineProps<{ run: RunDetail }>()
// Whoever wants to take it back once more comes with this in the address.
const open = ref('take-back' in useRoute().query)
const form = reactive({ reason: '' })
const sending = ref(false)
const failure = shallowRef<ErrorRecord | null>(null)
const until = computed(
  () =>
    run.kept
      .map(({ expiresAt }) => expiresAt)
      .filter((at) => at !== null)
      .sort()[0],
)
async function go() {
  sending.value = true
  try {
    const { id } = await post<{ id: string }>(`/api/runs/${run.id}/take-back`, { reason: form.reason || null })
    open.value = false
    await navigateTo(`/runs/${id}`)
  } catch (thrown) {
    failure.value = errorOf(thrown)
  } finally {
    sending.value = false
  }
}
</script>

<template>
  <UButton data-take-back @click="open = true">Take it back…</UButton>
  <UModal
    v-model:open="open"
    :close="{ variant: 'ghost' }"
    title="Take this restore back"
    description="Everything that it overwrote goes back to where it was, rows and structure. What it made in a database where there was nothing goes again, unless something else needs it by now."
  >
    <template #body>
      <UForm id="take-back" :schema="Reason" :state="form" class="grid gap-4 text-[13px]" @submit="go">
        <p v-if="until">
          What was overwritten is kept until <b class="font-semibold">{{ fullOf(until) }}</b>. What exists there now is kept, too.
        </p>
        <UFormField label="Reason, for the receipt" name="reason" hint="optional"
          ><UInput v-model="form.reason" name="take-back-reason" class="w-full" autofocus
        /></UFormField>
        <ErrorNote v-if="failure" :error="failure" />
      </UForm>
    </template>
    <template #footer>
      <UButton type="submit" form="take-back" color="primary" variant="solid" :loading="sending">Take it back</UButton>
      <UButton @click="open = false">Cancel</UButton>
    </template>
  </UModal>
</template>
