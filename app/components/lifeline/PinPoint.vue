<script setup lang="ts">
import { PinForm } from '~~/core/asked'
import type { LifelinePoint } from '~/utils/points'

// A point is pinned: why, and until when.
defineProps<{ point: LifelinePoint }>()
const open = defineModel<boolean>('open', { required: true })
const DAY = 86_400_000
const TERMS = [
  { label: 'until somebody takes the pin back', ms: null },
  { label: 'for 7 days', ms: 7 * DAY },
  { label: 'for 30 days', ms: 30 * DAY },
  { label: 'for a year', ms: 365 * DAY },
]
</script>

<template>
  <AskTerm
    v-model:open="open"
    :title="`Pin the point of ${whenOf(point.at)}`"
    description="It stays whatever the rules say, with all that it builds on."
    yes="Pin"
    :address="`/api/points/${point.id}/pin`"
    :schema="PinForm"
    placeholder="before the fare change"
    :terms="TERMS"
  />
</template>
