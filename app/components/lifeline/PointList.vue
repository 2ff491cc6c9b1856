<script setup lang="ts">
import type { LifelinePoint } from '~/utils/points'

// The points themselves, newest first, for whoever would rather read than drag.
const { points } = defineProps<{ points: LifelinePoint[]; entered: string | undefined }>()
defineEmits<{ enter: [at: number] }>()
const SHOWN = 8
const all = ref(false)
/** `3 of 7, nightly` */
const placeOf = ({ place, of, name }: NonNullable<LifelinePoint['plan']>) => (of > 1 ? `${place} of ${of}, ${name}` : name)
const listed = computed(() => [...points].reverse().slice(0, all.value ? undefined : SHOWN))
</script>

<template>
  <section aria-label="Points">
    <h2 class="flex items-baseline justify-between border-b border-[var(--line)] pb-1.5 text-[13px]">
      <span class="font-semibold">Points</span><span class="soft s12">newest first</span>
    </h2>
    <LongList v-slot="{ item: point, row }" :items="listed" :key-of="({ id }) => id" :row-height="29" class="text-[13px]">
      <li v-bind="row" class="flex h-[29px] items-center gap-3 border-b border-[var(--line)]" data-row>
        <button
          class="w-[150px] text-left hover:underline"
          :class="{ 'font-semibold': point.id === entered }"
          :aria-current="point.id === entered ? 'true' : undefined"
          @click="$emit('enter', point.at.getTime())"
        >
          {{ whenOf(point.at) }}
        </button>
        <span class="cut flex-1">{{ point.name ?? '' }}</span>
        <UIcon v-if="point.pin" name="i-lucide-pin" class="size-3.5 shrink-0" :title="`Pinned: ${point.pin.reason}`" />
        <span class="soft s12 cut w-[132px]" :title="point.keeping?.why">{{
          point.keeping === null ? 'goes with the next prune' : point.keeping.until ? `until ${dateOf(point.keeping.until)}` : ''
        }}</span>
        <span class="soft s12 w-[88px] truncate">{{ point.plan ? placeOf(point.plan) : 'by hand' }}</span>
        <span class="w-[118px] shrink-0 text-right">
          <span v-if="point.damage.length > 0" class="error">damaged</span>
          <span v-else-if="lackInWords(point)" class="warning"
            ><ExplainedWord :why="LACKS[lackInWords(point)!]">{{ lackInWords(point) }}</ExplainedWord></span
          >
          <span v-if="point.verifiedAt" class="border-b-2 border-[var(--gold-line)]">verified</span>
        </span>
      </li>
    </LongList>
    <button v-if="points.length > SHOWN && !all" class="lnk soft mt-2 text-[12px]" @click="all = true">
      {{ plural(points.length - SHOWN, 'older point') }}
    </button>
  </section>
</template>
