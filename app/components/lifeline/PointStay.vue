<script setup lang="ts">
import { placeInPlan } from '~~/core/plan/words'
import type { BackupKind } from '~~/core/plan/schedule'
import type { LifelinePoint } from '~/utils/points'

// Where a point stands in its plan, how long it stays and why, and what a person may do about that.
const { point, kinds } = defineProps<{ point: LifelinePoint; kinds: string[] }>()
const pinning = ref(false)
const deleting = ref(false)
const { sending, error, send } = useSending()
const place = computed(() =>
  point.plan ? placeInPlan({ ...point.plan, line: point.plan.name }, (kinds[0] ?? 'full') as BackupKind) : 'by hand',
)
const until = computed(() => (point.keeping?.until ? `until ${dateOf(point.keeping.until)}` : ''))
const unpin = () => send(() => $fetch(`/api/points/${point.id}/pin`, { method: 'DELETE' }))
</script>

<template>
  <li class="py-1.5 leading-[18px]" data-stay>
    <p>
      <span class="soft">{{ capital(place) }}.</span>{{ ' ' }}
      <template v-if="point.keeping"
        ><b class="font-semibold">Stays{{ until ? ` ${until}` : '' }}</b
        >{{ until ? ': ' : ', ' }}{{ point.keeping.why }}.</template
      >
      <b v-else class="warning font-semibold">Goes with the next prune: no rule keeps it.</b>
    </p>
    <p class="mt-1.5 flex gap-2">
      <UButton v-if="point.pin" size="sm" icon="i-lucide-pin-off" :loading="sending" data-unpin @click="unpin">Take the pin back</UButton>
      <UButton v-else size="sm" icon="i-lucide-pin" data-pin @click="pinning = true">Pin…</UButton>
      <UButton v-if="!point.pin" size="sm" variant="ghost" icon="i-lucide-trash-2" data-delete @click="deleting = true">Delete…</UButton>
    </p>
    <ErrorNote v-if="error" :error="error" class="mt-2" />
    <PinPoint v-if="pinning" v-model:open="pinning" :point="point" />
    <DeletePoint v-if="deleting" :point="point" @close="deleting = false" />
  </li>
</template>
