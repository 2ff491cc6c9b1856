<script setup lang="ts">
import type { ErrorRecord } from '~~/core/errors'

const WHAT = [
  ['full', 'full'],
  ['differential', 'differential'],
  ['incremental', 'incremental'],
  ['synthetic', 'synthetic full'],
  ['audit', 'audit of the log'],
] as const
const ABOUT = {
  full: 'Everything is read from the source.',
  differential: 'What has changed since the last full, computed from the log.',
  incremental: 'What has changed since the last point, computed from the log.',
  synthetic: 'A full that is computed in the store from what is there; the source is not read.',
  audit: 'No point is made: each followed table is read at the source, and compared with what the log leads to at that very moment.',
} as const
const asked = useBackUp()
const form = reactive({ name: '', comment: '', what: 'full' as keyof typeof ABOUT })
const error = shallowRef<ErrorRecord | null>(null)
const sending = ref(false)
const open = computed({ get: () => asked.value !== null, set: (value) => !value && (asked.value = null) })
watch(asked, () => Object.assign(form, { name: '', comment: '', what: 'full' }) && (error.value = null))

async function start() {
  sending.value = true
  try {
    const { id } = await post<{ id: string }>(`/api/vessels/${asked.value!.slug}/runs`, {
      ...(form.what === 'audit' ? { kind: 'audit' } : { kind: 'backup', what: form.what, name: form.name || null }),
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
    :title="form.what === 'audit' ? `Audit the log of ${asked?.name ?? ''}` : `Back up ${asked?.name ?? ''} now`"
    :description="ABOUT[form.what]"
  >
    <template #body>
      <form id="back-up" class="grid gap-4" @submit.prevent="start">
        <ChoiceBar v-model="form.what" :choices="WHAT" label="What is made" />
        <UFormField v-if="form.what !== 'audit'" label="Name" hint="optional"
          ><UInput v-model="form.name" name="name" class="w-full" placeholder="before the fare change" :maxlength="120" autofocus
        /></UFormField>
        <UFormField label="Comment" hint="optional"
          ><UTextarea v-model="form.comment" name="comment" class="w-full" :rows="2" :maxlength="2000"
        /></UFormField>
        <ErrorNote v-if="error" :error="error" />
      </form>
    </template>
    <template #footer>
      <UButton type="submit" form="back-up" color="primary" variant="solid" :loading="sending">{{
        form.what === 'audit' ? 'Audit the log' : 'Back up now'
      }}</UButton>
      <UButton @click="open = false">Not now</UButton>
    </template>
  </UModal>
</template>
