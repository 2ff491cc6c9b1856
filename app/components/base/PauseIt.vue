<script setup lang="ts">
import { PauseForm } from '~~/core/asked'

// A vessel, all of a source, or everything is paused: why, and until when.
defineProps<{ address: string; name: string }>()
const open = defineModel<boolean>('open', { required: true })
const HOUR = 3_600_000
const TERMS = [
  { label: 'until somebody resumes it', ms: null },
  { label: 'for an hour', ms: HOUR },
  { label: 'for 12 hours', ms: 12 * HOUR },
  { label: 'for 2 days', ms: 48 * HOUR },
  { label: 'for a week', ms: 168 * HOUR },
]
</script>

<template>
  <AskTerm
    v-model:open="open"
    :title="`Pause ${name}`"
    description="Nothing is made by itself meanwhile, and promises do not count. Logs go on, and what somebody starts is done."
    yes="Pause"
    :address="address"
    :schema="PauseForm"
    placeholder="the server moves this weekend"
    :terms="TERMS"
  />
</template>
