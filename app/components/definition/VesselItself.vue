<script setup lang="ts">
import type { VesselView } from '~~/server/views'

// What is done to a vessel as such: it gets another name, a stretch of its log goes, or all of it.
const { vessel } = defineProps<{ vessel: VesselView }>()
const emit = defineEmits<{ changed: [] }>()
const renaming = ref(false)
const deleting = ref(false)
const deletingLog = ref(false)
const isDefault = ref(false)
const { sending, error, send } = useSending()
/** As it was saved. */
async function makeDefault() {
  const { schedule = null, retention = null } = vessel.definition
  isDefault.value = await send(() => post('/api/default-plan', { schedule, retention }, 'PUT'))
}
</script>

<template>
  <section class="mt-6 border-t border-[var(--line-strong)] pt-4" data-itself>
    <h2 class="text-[16px] font-semibold">This vessel</h2>
    <div class="mt-2 flex flex-wrap gap-2 border-t border-[var(--line)] pt-3">
      <UButton size="sm" data-rename @click="renaming = true">Rename it…</UButton>
      <UButton
        v-if="vessel.definition.schedule || vessel.definition.retention"
        size="sm"
        :loading="sending"
        data-default-plan
        @click="makeDefault"
        >Let new vessels begin with its plan</UButton
      >
      <UButton v-if="vessel.anySecond" size="sm" data-delete-log @click="deletingLog = true">Delete a stretch of its log…</UButton>
      <UButton size="sm" color="error" variant="ghost" data-delete-vessel @click="deleting = true">Delete this vessel…</UButton>
    </div>
    <p v-if="isDefault" class="mt-2 text-[13px]" role="status">New vessels begin with its plan as it is saved now.</p>
    <ErrorNote v-if="error" :error="error" class="mt-2" />
    <RenameIt
      v-model:open="renaming"
      :name="vessel.name"
      :address="`/api/vessels/${vessel.slug}/name`"
      description="Its address stays, and so does everything that was made under the old name."
      @renamed="emit('changed')"
    />
    <DeleteLog v-if="deletingLog" :vessel="vessel" @close="deletingLog = false" @done="emit('changed')" />
    <DeleteVessel v-if="deleting" :vessel="vessel" @close="deleting = false" />
  </section>
</template>
