<script setup lang="ts">
// Vessels that were deleted, as long as any of their points stays.
const { data: gone } = useGoneVessels()
</script>

<template>
  <section v-if="gone && gone.length > 0" class="mt-8 text-[13px]" aria-label="Gone" data-gone>
    <h2 class="flex items-baseline justify-between border-b border-[var(--line)] pb-[7px]">
      <span class="font-semibold">Gone</span>
      <span class="soft s12">deleted; restored from as long as their points stay</span>
    </h2>
    <ul class="rule">
      <li v-for="vessel in gone" :key="vessel.slug" class="grid grid-cols-[220px_120px_minmax(0,1fr)_minmax(0,1fr)] gap-4 py-2" data-row>
        <NuxtLink :to="`/vessels/${vessel.slug}`" class="cut font-medium hover:underline">{{ vessel.name }}</NuxtLink>
        <span class="num">{{ plural(vessel.points, 'point') }}</span>
        <span>{{ staysInWords(vessel) }}</span>
        <span class="soft">Deleted {{ whenOf(vessel.gone.at) }} by {{ vessel.gone.by }}: {{ vessel.gone.reason }}</span>
      </li>
    </ul>
  </section>
</template>
