<script setup lang="ts">
import { newestAtPosition, NOWHERE, positionOf } from '~~/core/chain/position'
import type { Artifact } from '~~/core/chain/chain'
import type { TimeRange } from '~/composables/useTimeWindow'

// Entering a time or a position by writing it, and the presets of the window.
const { artifacts, range, logged } = defineProps<{ artifacts: Artifact[]; range: TimeRange; logged: boolean }>()
const emit = defineEmits<{ enter: [at: number]; position: [position: string]; preset: [span: number] }>()
const typed = ref('')
/** Why what was typed can't be entered. */
const trouble = ref<string | null>(null)
function enter() {
  const position = positionOf(typed.value)
  if (position !== undefined && logged) {
    emit('position', typed.value.trim().toUpperCase())
    typed.value = ''
    return
  }
  const read = position === undefined ? readTime(typed.value) : null
  const at = read ? read.at : newestAtPosition(artifacts, position!)?.at
  trouble.value = read ? read.trouble : at ? null : 'Nothing that is kept reaches that position.'
  if (!at) return
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
      class="relative flex h-[26px] w-[196px] items-center gap-[7px] border-b"
      :class="trouble ? 'border-[var(--error)]' : 'border-[var(--edge)]'"
      @submit.prevent="enter"
    >
      <UIcon name="i-lucide-crosshair" class="size-3.5 shrink-0" />
      <input
        v-model="typed"
        name="moment"
        :aria-label="`Enter ${words}`"
        :aria-invalid="trouble !== null"
        :aria-describedby="trouble ? 'moment-trouble' : undefined"
        :placeholder="words"
        :title="`As in: ${TIMES_AS_IN}${hasPositions ? ', 16/B2A41F08' : ''}`"
        class="w-full bg-transparent text-[var(--ink)] placeholder:text-[var(--soft)]"
        @input="trouble = null"
      />
      <p
        v-if="trouble"
        id="moment-trouble"
        role="alert"
        class="error absolute top-full left-0 z-10 w-[380px] border border-[var(--line-strong)] bg-[var(--sheet)] px-3 py-2 leading-[17px]"
      >
        {{ trouble }}
      </p>
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
