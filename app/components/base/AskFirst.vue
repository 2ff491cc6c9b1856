<script setup lang="ts">
// A question before something that can't be taken back.
const { title, text, yes } = defineProps<{ title: string; text: string; yes: string }>()
const emit = defineEmits<{ close: [is: boolean] }>()
</script>

<template>
  <UModal :title="title" :description="text" :close="false" :dismissible="false">
    <template #footer>
      <UButton color="error" variant="solid" data-yes @click="emit('close', true)">{{ yes }}</UButton>
      <UButton autofocus @click="emit('close', false)">Cancel</UButton>
    </template>
  </UModal>
</template>
