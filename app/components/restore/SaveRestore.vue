<script setup lang="ts">
import { Named } from '~~/core/asked'
import type { ErrorRecord } from '~~/core/errors'
import type { Begins } from '~~/core/restore/choice'
import type { Wish } from '~~/core/restore/wish'
import type { ChosenPoint } from '~/composables/usePointChoice'

// Keeps a restore under a name, to be run again on a newer point.
const { slug, wish, reason, point } = defineProps<{
  slug: string
  wish: Wish
  reason: string
  /** The point at hand; null where it is a moment of a log. */
  point: ChosenPoint | null
}>()
const open = ref(false)
const form = reactive({ name: '' })
const which = ref<Begins['which']>('newest good')
const choices = computed(() => [
  { value: 'newest good', label: 'the newest that is complete', description: 'undamaged, and nothing is missing in it' },
  { value: 'newest', label: 'the newest, whatever it lacks', description: 'what is missing has to be agreed to' },
  ...(point
    ? [{ value: 'named', label: point.name ? `“${point.name}”` : `that of ${whenOf(point.at)}`, description: 'always this one' }]
    : []),
])
const saved = ref('')
const error = shallowRef<ErrorRecord | null>(null)
async function save() {
  const begins: Begins = which.value === 'named' ? { which: 'named', point: point!.id } : { which: which.value }
  try {
    await post(`/api/vessels/${slug}/restores`, { name: form.name, wish, reason: reason || null, begins })
    saved.value = form.name
    error.value = null
    open.value = false
  } catch (thrown) {
    error.value = errorOf(thrown)
  }
}
</script>

<template>
  <UPopover v-model:open="open" :ui="{ content: 'w-[330px] p-4 shadow-none ring ring-[var(--line-strong)] bg-[var(--sheet)]' }">
    <UButton data-save-restore>{{ saved ? 'Saved' : 'Save…' }}</UButton>
    <template #content>
      <UForm :schema="Named" :state="form" class="grid gap-3 text-[13px]" @submit="save">
        <UFormField label="Name of this restore" name="name" hint="to run it again later">
          <UInput v-model="form.name" name="restore-name" class="w-full" autofocus />
        </UFormField>
        <URadioGroup v-model="which" :items="choices" legend="It begins with" size="sm" data-begins />
        <ErrorNote v-if="error" :error="error" />
        <UButton type="submit" color="primary" variant="solid" class="justify-self-start">Save this restore</UButton>
      </UForm>
    </template>
  </UPopover>
</template>
