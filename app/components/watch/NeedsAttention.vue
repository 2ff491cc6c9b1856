<script setup lang="ts">
import type { Attention } from '~~/server/views'

defineProps<{ attention: Attention[] }>()
</script>

<template>
  <section>
    <h2 class="border-b border-[var(--line)] pb-[7px] font-semibold">Needs attention</h2>
    <p v-if="attention.length === 0" class="soft py-3 text-[13px]">Nothing needs attention.</p>
    <ul class="rule text-[13px]">
      <li v-for="item in attention" :key="item.to + item.what" class="flex gap-2.5 py-2" data-row>
        <svg width="14" height="18" viewBox="0 0 14 18" class="mt-px shrink-0" aria-hidden="true">
          <path v-if="item.level === 'error'" d="M1 9H6M6 4V14M9.5 5.5V12.5M9.5 9H13" stroke="var(--error)" stroke-width="2" fill="none" />
          <path
            v-else
            d="M7 3.5L13 14.5H1ZM7 7.5V10.5M7 12V13"
            stroke="var(--warning)"
            stroke-width="1.4"
            fill="none"
            stroke-linejoin="round"
          />
        </svg>
        <div class="min-w-0 flex-1">
          <p class="break-words">{{ item.what }}</p>
          <p class="mt-1 flex items-baseline justify-between gap-3">
            <span v-if="item.since" class="soft s12">since {{ whenOf(item.since) }}</span>
            <NuxtLink :to="item.to" class="lnk ml-auto border-[var(--ink)]">{{ item.action }}</NuxtLink>
          </p>
        </div>
      </li>
    </ul>
  </section>
</template>
