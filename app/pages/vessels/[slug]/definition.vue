<script setup lang="ts">
import { defaultLog } from '~~/core/plan/definition'
import { NOT_HELD } from '~~/core/quiesce/sequence'
import type { ErrorRecord } from '~~/core/errors'
import type { VesselView } from '~~/server/views'

const { vessel } = defineProps<{ vessel: VesselView }>()
const emit = defineEmits<{ changed: [] }>()
// Older definitions say nothing of logs and of holds, which is to follow and to hold none, and to keep what can be.
const saved = { log: defaultLog(false), still: NOT_HELD, partly: 'keep' as const, ...vessel.definition }
const definition = useDefinition(saved, [], vessel.slug)
// The version that is being changed: a newer one that somebody else saves meanwhile is not overwritten.
const base = ref({ version: vessel.version, definition: saved })
const error = shallowRef<ErrorRecord | null>(null)
const saving = ref(false)
const isChanged = computed(() => JSON.stringify(definition.draft) !== JSON.stringify(base.value.definition))
async function save() {
  saving.value = true
  error.value = null
  try {
    const { version } = await post<{ version: number }>(
      `/api/vessels/${vessel.slug}/definition`,
      { basedOn: base.value.version, definition: definition.draft },
      'PUT',
    )
    base.value = { version, definition: JSON.parse(JSON.stringify(definition.draft)) }
    definition.wasSaved()
    emit('changed')
  } catch (thrown) {
    error.value = errorOf(thrown)
  } finally {
    saving.value = false
  }
}
const setBack = () => Object.assign(definition.draft, structuredClone(toRaw(base.value.definition)))
const ask = useAsk()
const LEAVE = { title: 'Leave your changes?', text: 'They are not saved, and are lost.', yes: 'Leave them' }
onBeforeRouteLeave(() => !isChanged.value || ask(LEAVE))
useEventListener('beforeunload', (event) => isChanged.value && event.preventDefault())
</script>

<template>
  <DefinitionForm
    :definition="definition"
    :saved="base.definition"
    :version="base.version"
    :saving="saving"
    :error="error"
    @save="save"
    @back="setBack"
  />
</template>
