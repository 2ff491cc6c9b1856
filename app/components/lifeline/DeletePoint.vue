<script setup lang="ts">
import { DeleteForm } from '~~/core/asked'
import type { DeletionView } from '~~/server/views'
import type { LifelinePoint } from '~/utils/points'

// A point is deleted, with what that takes away shown before.
const { point } = defineProps<{ point: LifelinePoint }>()
const emit = defineEmits<{ close: [] }>()
const form = reactive({ reason: '' })
const { data: going, error: unknown } = useLoad<DeletionView>(() => `/api/points/${point.id}/deletion`)
const others = computed(() => going.value?.points.filter(({ id }) => id !== point.id) ?? [])
const lost = computed(() => (going.value?.lost ?? []).map(({ from, to }) => `${whenOf(from)} to ${whenOf(to)}`))
const isPinned = computed(() => going.value?.points.some(({ pinned }) => pinned) ?? false)
const SHOWN = 4
const { sending, error, send } = useSending()
async function remove() {
  const points = going.value!.points.map(({ id }) => id)
  if (await send(() => post(`/api/points/${point.id}/deletion`, { reason: form.reason, points }))) emit('close')
}
</script>

<template>
  <UModal
    open
    :close="{ variant: 'ghost' }"
    :title="`Delete the point of ${whenOf(point.at)}`"
    description="It can’t be brought back."
    @update:open="emit('close')"
  >
    <template #body>
      <UForm id="delete-point" :schema="DeleteForm" :state="form" class="grid gap-4" @submit="remove">
        <ErrorNote v-if="unknown" :error="unknown" />
        <USkeleton v-else-if="!going" class="h-16" />
        <dl v-else class="rule border-y border-[var(--line)] text-[13px]" data-going>
          <div class="grid grid-cols-[150px_1fr] py-1.5">
            <dt class="soft">Goes with it</dt>
            <dd v-if="others.length === 0">no other point builds on it</dd>
            <dd v-else>
              <b class="font-semibold">{{ plural(others.length, 'point') }}</b> that build{{ others.length === 1 ? 's' : '' }} on it:
              {{ listInWords(others.slice(0, SHOWN).map(({ at }) => whenOf(at))) }}{{ others.length > SHOWN ? ' and more' : '' }}
            </dd>
          </div>
          <div class="grid grid-cols-[150px_1fr] py-1.5">
            <dt class="soft">Can’t be entered then</dt>
            <dd v-if="lost.length === 0">no moment of the log</dd>
            <dd v-else>the moments of {{ listInWords(lost.slice(0, SHOWN)) }}{{ lost.length > SHOWN ? ' and more' : '' }}</dd>
          </div>
          <div class="grid grid-cols-[150px_1fr] py-1.5">
            <dt class="soft">Comes free</dt>
            <dd>up to {{ bytesInWords(going.stored) }}, with the next prune of its store</dd>
          </div>
        </dl>
        <p v-if="going?.isNewest" class="warning text-[13px] font-medium">It is the newest point of its vessel.</p>
        <p v-if="isPinned" class="warning text-[13px] font-medium">One of them is pinned. Take the pin back first, if it may go.</p>
        <UFormField label="Reason" name="reason"
          ><UInput
            v-model="form.reason"
            name="reason"
            class="w-full"
            placeholder="it holds what must not be kept"
            :maxlength="400"
            autofocus
        /></UFormField>
        <ErrorNote v-if="error" :error="error" />
      </UForm>
    </template>
    <template #footer>
      <UButton type="submit" form="delete-point" color="error" variant="solid" :loading="sending" :disabled="!going || isPinned">{{
        others.length > 0 ? `Delete ${plural(others.length + 1, 'point')}` : 'Delete it'
      }}</UButton>
      <UButton @click="emit('close')">Cancel</UButton>
    </template>
  </UModal>
</template>
