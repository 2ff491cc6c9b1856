<script setup lang="ts">
import type { Since } from '~~/server/views'

// What changed in what is taken since the newest backup.
const { since } = defineProps<{ since: Since }>()
const groups = computed(() =>
  [
    { word: 'new', tone: '', count: since.fresh.count, lines: since.fresh.first.map((path) => ({ path, why: '' })) },
    { word: 'gone', tone: 'warning', count: since.gone.count, lines: since.gone.first.map((path) => ({ path, why: '' })) },
    { word: 'taken no more', tone: '', count: since.dropped.count, lines: since.dropped.first.map((path) => ({ path, why: '' })) },
    { word: 'not in it', tone: 'error', count: since.unreadable.count, lines: since.unreadable.first },
  ].filter(({ count }) => count > 0),
)
const SHOWN = 5
</script>

<template>
  <section class="mt-3" aria-label="Since the newest backup" data-since>
    <h3 class="flex items-baseline justify-between">
      <span class="font-semibold">Since the newest backup</span><span class="soft s12">{{ whenOf(since.at) }}</span>
    </h3>
    <p v-if="groups.length === 0" class="soft py-1">The same things are there, and it holds all of them.</p>
    <dl v-else>
      <div v-for="{ word, tone, count, lines } in groups" :key="word" class="grid grid-cols-[112px_1fr] gap-x-2 py-1">
        <dt :class="tone || 'soft'">
          <b class="font-semibold">{{ countInWords(count) }}</b> {{ word }}
        </dt>
        <dd class="min-w-0">
          <p v-for="{ path, why } in lines.slice(0, SHOWN)" :key="path + why" :title="why ? `${path}: ${why}` : path" class="cut">
            <span class="mono text-[12px]">{{ shortOf(path) }}</span><span v-if="why" class="soft"> {{ why }}</span>
          </p>
          <p v-if="count > SHOWN" class="soft">and {{ countInWords(count - SHOWN) }} more</p>
        </dd>
      </div>
    </dl>
  </section>
</template>
