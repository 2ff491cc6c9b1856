<script setup lang="ts">
import { newestAtPosition, NOWHERE, positionOf } from '~~/core/chain/position'
import type { Artifact } from '~~/core/chain/chain'
import type { TimeRange } from '~/composables/useTimeWindow'

// Entering a time or a position by writing it, and the presets of the window.
const { artifacts, range, logged } = defineProps<{ artifacts: Artifact[]; range: TimeRange; logged: boolean }>()
const emit = defineEmits<{ enter: [at: number]; position: [position: string]; preset: [span: number] }>()
const typed = ref('')
const unreadable = ref(false)
function enter() {
  const position = positionOf(typed.value)
  if (position !== undefined && logged) {
    emit('position', typed.value.trim().toUpperCase())
    typed.value = ''
    return
  }
  const at = position === undefined ? readTime(typed.value) : newestAtPosition(artifacts, position)?.at
  unreadable.value = at === undefined
  if (at === undefined) return
  typed.value = ''
  emit('enter', at.getTime())
}
/** Something in it has positions in a log. */
const hasPositions = computed(() => artifacts.some(({ to }) => to !== NOWHERE))
const words = computed(() => (hasPositions.value ? 'a time or a log position' : 'a time'))
const active = computed(() => PRESETS.find(([, span]) => span > 0 && Math.abs((range.to - range.from) / span - 1.05) < 0.06)?.[0])
</script>

<template>
  <div class="soft flex items-center gap-5 text-[13px]">
    <form
      class="flex h-[26px] w-[196px] items-center gap-[7px] border-b"
      :class="unreadable ? 'border-[var(--iron)]' : 'border-[var(--edge)]'"
      @submit.prevent="enter"
    >
      <UIcon name="i-lucide-crosshair" class="size-3.5 shrink-0" />
      <input
        v-model="typed"
        name="instant"
        :aria-label="`Enter ${words}`"
        :aria-invalid="unreadable"
        :placeholder="words"
        :title="`As in: yesterday 9:41:07, 3 Nov 04:10, 2026-11-24T09:41:07Z${hasPositions ? ', 16/B2A41F08' : ''}`"
        class="w-full bg-transparent text-[var(--ink)] outline-none placeholder:text-[var(--soft)]"
        @input="unreadable = false"
      />
    </form>
    <button
      v-for="[label, span] in PRESETS"
      :key="label"
      :class="active === label ? 'font-semibold text-[var(--ink)]' : 'hover:text-[var(--ink)]'"
      @click="$emit('preset', span)"
    >
      {{ label }}
    </button>
  </div>
</template>
