<script setup lang="ts">
import type { Loss } from '~~/server/views'

// What was lost of one vessel, above everything that is told of it: a line each, with the best way back.
const { losses, slug } = defineProps<{ losses: Loss[]; slug: string }>()
const SHOWN = 3
const wayOf = ({ ways }: Loss) => ways.find(({ vessel }) => vessel.slug === slug) ?? ways[0]
</script>

<template>
  <section
    v-if="losses.length > 0"
    aria-label="Losses"
    class="mx-6 mt-2 border-l-2 border-[var(--error)] pl-3 text-[13px]"
    aria-live="polite"
  >
    <p v-for="loss in losses.slice(0, SHOWN)" :key="loss.key" class="flex items-baseline gap-3 py-0.5" data-loss>
      <span class="cut" :title="loss.what"
        ><b class="error font-medium">{{ loss.what }}</b> <span class="soft s12 ml-2">{{ whenLost(loss) }}</span></span
      >
      <NuxtLink v-if="wayOf(loss)" :to="wayOf(loss)!.to" class="lnk ml-auto shrink-0">{{ wayInWords(wayOf(loss)!) }}</NuxtLink>
    </p>
    <p v-if="losses.length > SHOWN">
      <NuxtLink to="/" class="lnk">{{ losses.length - SHOWN }} more on Watch</NuxtLink>
    </p>
  </section>
</template>
