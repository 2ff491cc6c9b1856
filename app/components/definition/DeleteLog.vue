<script setup lang="ts">
import { placeInWords } from '~~/core/things/thing'
import type { LogDeletionView, VesselView } from '~~/server/views'

// A stretch of log is deleted: asked for first, then shown with what that takes away.
defineProps<{ vessel: VesselView }>()
const emit = defineEmits<{ close: []; done: [] }>()
const stretch = ref<{ from: string; to: string } | null>(null)
const typed = reactive({ from: '', to: '' })
const read = computed(() => [readTime(typed.from), readTime(typed.to)] as const)
const isTyped = computed(() => typed.from.trim() !== '' && typed.to.trim() !== '')
const trouble = computed(() => {
  const [from, to] = read.value
  if (!isTyped.value) return null
  return from.trouble ?? to.trouble ?? (from.at! < to.at! ? null : 'It ends before it begins.')
})
const isStretch = computed(() => isTyped.value && trouble.value === null)
function look() {
  const [from, to] = read.value
  stretch.value = { from: from.at!.toISOString(), to: to.at!.toISOString() }
}
const none = ({ segments }: LogDeletionView) => (segments === 0 ? 'No log is stored of this stretch.' : null)
</script>

<template>
  <UModal
    v-if="!stretch"
    open
    :close="{ variant: 'ghost' }"
    :title="`Delete a stretch of the log of ${vessel.name}`"
    @update:open="emit('close')"
    description="What goes with it is shown before anything is deleted."
  >
    <template #body>
      <form id="log-stretch" class="grid grid-cols-2 gap-3" @submit.prevent="isStretch && look()">
        <UFormField label="From"
          ><UInput v-model="typed.from" name="from" class="w-full" placeholder="2026-11-24 04:10" autofocus
        /></UFormField>
        <UFormField label="To"><UInput v-model="typed.to" name="to" class="w-full" placeholder="2026-11-24 04:20" /></UFormField>
        <p v-if="trouble" class="error col-span-2 text-[13px]" role="alert">{{ trouble }}</p>
      </form>
    </template>
    <template #footer>
      <UButton type="submit" form="log-stretch" color="primary" variant="solid" :disabled="!isStretch">Show what goes</UButton>
      <UButton @click="emit('close')">Cancel</UButton>
    </template>
  </UModal>
  <DeleteIt
    v-else
    :title="`Delete the log from ${whenOf(stretch.from)} to ${whenOf(stretch.to)}`"
    :address="`/api/vessels/${vessel.slug}/log-deletion`"
    :query="stretch"
    :refuses="none"
    :body="({ segments }: LogDeletionView) => ({ ...stretch, segments })"
    yes="Delete this stretch"
    placeholder="it holds what must not be kept"
    @close="emit('close')"
    @done="emit('done')"
  >
    <template #default="{ going }">
      <div>
        <dt>Goes</dt>
        <dd>
          {{ plural(going.segments, 'segment') }} of log<template v-if="going.members.length > 0">
            of {{ listInWords(going.members.map(placeInWords)) }}</template
          >; each goes whole
        </dd>
      </div>
      <div>
        <dt>Stays</dt>
        <dd>every point; where none was made since, a full begins by itself</dd>
      </div>
      <LostAndFreed :lost="going.lost" :stored="going.stored" />
    </template>
  </DeleteIt>
</template>
