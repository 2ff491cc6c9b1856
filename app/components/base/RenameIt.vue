<script setup lang="ts">
import { Named } from '~~/core/asked'

// Something gets another name.
const { name, address } = defineProps<{ name: string; address: string; description: string }>()
const open = defineModel<boolean>('open', { required: true })
const emit = defineEmits<{ renamed: [name: string] }>()
const form = reactive({ name })
watch(open, () => (form.name = name))
const id = useId()
const { sending, error, send } = useSending()
async function rename() {
  if (!(await send(() => post(address, { name: form.name }, 'PUT')))) return
  emit('renamed', form.name.trim())
  open.value = false
}
</script>

<template>
  <UModal v-model:open="open" :close="{ variant: 'ghost' }" :title="`Rename ${name}`" :description="description">
    <template #body>
      <UForm :id="id" :schema="Named" :state="form" class="grid gap-4" @submit="rename">
        <UFormField label="Name" name="name"><UInput v-model="form.name" name="name" class="w-full" autofocus /></UFormField>
        <ErrorNote v-if="error" :error="error" />
      </UForm>
    </template>
    <template #footer>
      <UButton type="submit" :form="id" color="primary" variant="solid" :loading="sending" data-rename-it>Rename</UButton>
      <UButton @click="open = false">Cancel</UButton>
    </template>
  </UModal>
</template>
