<script setup lang="ts">
import type { ErrorRecord } from '~~/core/errors'

const asked = useBackUp()
const form = reactive({ name: '', comment: '' })
const error = shallowRef<ErrorRecord | null>(null)
const sending = ref(false)
const open = computed({ get: () => asked.value !== null, set: (value) => !value && (asked.value = null) })
watch(asked, () => Object.assign(form, { name: '', comment: '' }) && (error.value = null))

async function start() {
  sending.value = true
  try {
    const { id } = await post<{ id: string }>(`/api/vessels/${asked.value!.slug}/runs`, {
      kind: 'backup',
      name: form.name || null,
      comment: form.comment || null,
    })
    asked.value = null
    await navigateTo(`/runs/${id}`)
  } catch (thrown) {
    error.value = errorOf(thrown)
  } finally {
    sending.value = false
  }
}
</script>

<template>
  <UModal
    v-model:open="open"
    :close="{ variant: 'ghost' }"
    :title="`Back up ${asked?.name ?? ''} now`"
    description="A full backup, beside those of the schedule."
  >
    <template #body>
      <form id="back-up" class="grid gap-4" @submit.prevent="start">
        <UFormField label="Name" hint="optional"
          ><UInput v-model="form.name" name="name" class="w-full" placeholder="before the fare change" :maxlength="120" autofocus
        /></UFormField>
        <UFormField label="Comment" hint="optional"
          ><UTextarea v-model="form.comment" name="comment" class="w-full" :rows="2" :maxlength="2000"
        /></UFormField>
        <ErrorNote v-if="error" :error="error" />
      </form>
    </template>
    <template #footer>
      <UButton type="submit" form="back-up" color="primary" variant="solid" :loading="sending">Back up now</UButton>
      <UButton @click="open = false">Not now</UButton>
    </template>
  </UModal>
</template>
