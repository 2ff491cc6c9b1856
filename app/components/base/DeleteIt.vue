<script setup lang="ts" generic="Going">
import { DeleteForm } from '~~/core/asked'

// Something is deleted: what that takes away is loaded and shown before, and a reason is asked for.
const { address, query, refuses, body } = defineProps<{
  title: string
  /** Answers what would go, and is told to delete it. */
  address: string
  query?: Record<string, string>
  /** Why it can't be deleted as things are; null where it can. */
  refuses?: (going: Going) => string | null
  /** What is sent beside the reason. */
  body?: (going: Going) => Record<string, unknown>
  /** What the button says that does it. */
  yes: string
  placeholder: string
}>()
const emit = defineEmits<{ close: []; done: [answer: unknown] }>()
const form = reactive({ reason: '' })
const id = useId()
const { data: going, error: unknown } = useLoad<Going>(() => `${address}${query ? `?${new URLSearchParams(query).toString()}` : ''}`, {
  tells: true,
})
const refused = computed(() => (going.value && refuses ? refuses(going.value) : null))
const { sending, error, send } = useSending()
async function remove() {
  const sent = { reason: form.reason, ...body?.(going.value!) }
  if (await send(async () => emit('done', await post(address, sent)))) emit('close')
}
</script>

<template>
  <UModal
    open
    :close="{ variant: 'ghost' }"
    :title="title"
    description="It can’t be brought back."
    :ui="{ content: 'max-w-xl' }"
    @update:open="emit('close')"
  >
    <template #body>
      <UForm :id="id" :schema="DeleteForm" :state="form" class="grid gap-4" @submit="remove">
        <ErrorNote v-if="unknown && !going" :error="unknown" />
        <USkeleton v-else-if="!going" class="h-16" />
        <template v-else>
          <dl
            class="rule border-y border-[var(--line)] text-[13px] [&>div]:grid [&>div]:grid-cols-[150px_1fr] [&>div]:py-1.5 [&>div>dt]:text-[var(--soft)]"
            data-going
          >
            <slot :going="going" />
          </dl>
          <slot name="more" :going="going" />
        </template>
        <p v-if="refused" class="warning text-[13px] font-medium" data-refused>{{ refused }}</p>
        <UFormField v-if="!refused" label="Reason" name="reason"
          ><UInput v-model="form.reason" name="reason" class="w-full" :placeholder="placeholder" :maxlength="400" autofocus
        /></UFormField>
        <ErrorNote v-if="error" :error="error" />
      </UForm>
    </template>
    <template #footer>
      <UButton
        type="submit"
        :form="id"
        color="error"
        variant="solid"
        :loading="sending"
        :disabled="!going || refused !== null"
        data-delete-it
        >{{ yes }}</UButton
      >
      <UButton @click="emit('close')">Cancel</UButton>
    </template>
  </UModal>
</template>
