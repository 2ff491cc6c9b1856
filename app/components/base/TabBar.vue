<script setup lang="ts" generic="T extends string">
import { TabsList, TabsRoot, TabsTrigger } from 'reka-ui'

// Views of the same thing, in the head of a panel. Arrows go from one to the next.
defineProps<{ tabs: readonly (readonly [T, string])[]; label: string }>()
const shown = defineModel<T>({ required: true })
</script>

<template>
  <TabsRoot v-model="shown" activation-mode="manual" class="h-full shrink-0">
    <TabsList class="flex h-full gap-5 text-[14px]" :aria-label="label">
      <TabsTrigger
        v-for="[name, word] in tabs"
        :key="name"
        :value="name"
        :aria-controls="undefined"
        class="h-full"
        :class="shown === name ? 'font-semibold shadow-[inset_0_-2px_0_var(--ink)]' : 'soft hover:text-[var(--ink)]'"
      >
        {{ word }}<slot :name="name" />
      </TabsTrigger>
    </TabsList>
  </TabsRoot>
</template>
