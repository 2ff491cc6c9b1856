<script setup lang="ts">
import type { Act } from '~~/core/quiesce/sequence'

defineProps<{ call: Extract<Act, { kind: 'http' }>; label: string; hosts: string[] }>()
</script>

<template>
  <span class="flex items-center gap-2">
    <USelect v-model="call.method" :items="['GET', 'POST', 'PUT', 'DELETE']" class="w-28" :aria-label="`${label}: method`" />
    <UInput v-model="call.url" class="mono flex-1" placeholder="http://gates.ferries.example/hold" :aria-label="`${label}: address`" />
  </span>
  <UInput
    v-if="call.method !== 'GET'"
    v-model="call.body"
    class="mono w-full"
    placeholder="what is sent; may be empty"
    :aria-label="`${label}: what is sent`"
  />
  <span class="soft">{{
    hosts.length > 0
      ? `May be called: ${hosts.join(', ')}.`
      : 'No host may be called here yet; an administrator allows them in VESSEL_HOOK_HOSTS.'
  }}</span>
</template>
