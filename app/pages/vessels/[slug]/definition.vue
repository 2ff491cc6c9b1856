<script setup lang="ts">
import type { ErrorRecord } from '~~/core/errors'
import type { VesselView } from '~~/server/views'

const { vessel } = defineProps<{ vessel: VesselView }>()
const emit = defineEmits<{ changed: [] }>()
const draft = useDraft()
// It stays that of the version that it began with: a newer one that somebody else saves meanwhile is not overwritten.
onScopeDispose(draft.open(vessel))
const error = shallowRef<ErrorRecord | null>(null)
const saving = ref(false)
async function save() {
  saving.value = true
  error.value = null
  try {
    const { version } = await post<{ version: number }>(
      `/api/vessels/${vessel.slug}/definition`,
      { basedOn: draft.version, definition: draft.definition },
      'PUT',
    )
    draft.wasSaved(version)
    emit('changed')
  } catch (thrown) {
    error.value = errorOf(thrown)
  } finally {
    saving.value = false
  }
}
const ask = useAsk()
const LEAVE = { title: 'Leave your changes?', text: 'They are not saved, and are lost.', yes: 'Leave them' }
onBeforeRouteLeave(() => !draft.isChanged || ask(LEAVE))
useEventListener('beforeunload', (event) => draft.isChanged && event.preventDefault())
</script>

<template>
  <DefinitionForm :saving="saving" :error="error" @save="save"><VesselItself :vessel="vessel" @changed="emit('changed')" /></DefinitionForm>
</template>
