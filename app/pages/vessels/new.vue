<script setup lang="ts">
import { Named } from '~~/core/asked'
import type { ErrorRecord } from '~~/core/errors'

useHead({ title: 'Define a vessel · Unbroken Vessel' })
const route = useRoute()
const take = [route.query.take ?? []].flat().map(String)
const draft = useDraft()
onScopeDispose(draft.open({ take }))
const form = reactive({ name: '' })
const error = shallowRef<ErrorRecord | null>(null)
const saving = ref(false)
async function save() {
  saving.value = true
  error.value = null
  try {
    const { slug } = await post<{ slug: string }>('/api/vessels', { name: form.name, definition: draft.definition })
    done = true
    await navigateTo(`/vessels/${slug}`)
  } catch (thrown) {
    error.value = errorOf(thrown)
  } finally {
    saving.value = false
  }
}
let done = false
const ask = useAsk()
const LEAVE = { title: 'Leave this vessel?', text: 'It is not saved yet, and what you wrote is lost.', yes: 'Leave it' }
onBeforeRouteLeave(() => done || (form.name === '' && !draft.isChanged) || ask(LEAVE))
</script>

<template>
  <main class="flex min-h-[calc(100vh-52px)] flex-col">
    <div class="px-6 pt-[11px] pb-3">
      <PageSentence>
        <template v-if="!draft.selection || draft.selection.taken.count === 0">A new vessel: what belongs together?</template>
        <template v-else
          >{{ form.name || 'The new vessel' }} takes {{ whatOf(draft.selection.taken) }},
          {{ bytesInWords(draft.selection.taken.bytes) }}.</template
        >
      </PageSentence>
      <UForm :schema="Named" :state="form" class="mt-2 text-[13px]">
        <UFormField label="Name" name="name" orientation="horizontal" :ui="{ root: 'justify-start gap-3', label: 'soft font-normal' }"
          ><UInput v-model="form.name" name="vessel-name" placeholder="Bookings" class="w-72" autofocus
        /></UFormField>
      </UForm>
    </div>
    <DefinitionForm :saving="saving" :error="error" class="flex-1 border-t border-[var(--line)]" @save="save" />
  </main>
</template>
