<script setup lang="ts">
import type { Act } from '~~/core/quiesce/sequence'

type Call = Extract<Act, { kind: 'http' }>
const METHODS: Call['method'][] = ['GET', 'POST', 'PUT', 'DELETE']
defineProps<{ call: Call; label: string; hosts: string[] }>()
defineEmits<{ change: [to: Partial<Call>] }>()
</script>

<template>
  <span class="flex items-center gap-2">
    <USelect
      :model-value="call.method"
      :items="METHODS"
      class="w-28"
      :aria-label="`${label}: method`"
      @update:model-value="$emit('change', { method: $event })"
    />
    <UInput
      :model-value="call.url"
      class="mono flex-1"
      placeholder="http://gates.ferries.example/hold"
      :aria-label="`${label}: address`"
      @update:model-value="$emit('change', { url: $event })"
    />
  </span>
  <UInput
    v-if="call.method !== 'GET'"
    :model-value="call.body"
    class="mono w-full"
    placeholder="what is sent; may be empty"
    :aria-label="`${label}: what is sent`"
    @update:model-value="$emit('change', { body: $event })"
  />
  <span class="soft">{{
    hosts.length > 0
      ? `May be called: ${hosts.join(', ')}.`
      : 'No host may be called here yet; an administrator allows them in VESSEL_HOOK_HOSTS.'
  }}</span>
</template>
