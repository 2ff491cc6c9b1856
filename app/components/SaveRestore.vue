<script setup lang="ts">
import type { ErrorRecord } from '~~/core/errors'
import type { Wish } from '~~/core/restore/wish'

// Keeps a restore under a name, to be run again on a newer point.
const { slug, wish, reason } = defineProps<{ slug: string; wish: Wish; reason: string }>()
const open = ref(false)
const name = ref('')
const saved = ref('')
const error = shallowRef<ErrorRecord | null>(null)
async function save() {
  try {
    await post(`/api/vessels/${slug}/restores`, { name: name.value, wish, reason: reason || null })
    saved.value = name.value
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
      <form class="grid gap-3 text-[13px]" @submit.prevent="save">
        <UFormField label="Name of this restore" hint="to run it again on a newer point">
          <UInput v-model="name" name="restore-name" class="w-full" :maxlength="80" autofocus />
        </UFormField>
        <ErrorNote v-if="error" :error="error" />
        <UButton type="submit" color="primary" variant="solid" class="justify-self-start" :disabled="!name.trim()">Save it</UButton>
      </form>
    </template>
  </UPopover>
</template>
