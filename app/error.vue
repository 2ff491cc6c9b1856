<script setup lang="ts">
import type { NuxtError } from '#app'

// What stands in place of a page that is not there, or that failed as a whole.
const { error } = defineProps<{ error: NuxtError }>()
const isMissing = computed(() => error.statusCode === 404)
const address = useRequestURL().pathname
useHead({ title: () => `${isMissing.value ? 'Nothing is here' : 'This page failed'} · Unbroken Vessel` })
const leave = (to: string) => clearError({ redirect: to })
</script>

<template>
  <UApp>
    <main class="mx-auto grid min-h-screen max-w-[640px] content-center gap-5 px-6">
      <PageSentence large>{{ isMissing ? 'Nothing is at this address.' : 'This page failed.' }}</PageSentence>
      <p v-if="isMissing" class="text-[14px]">
        <span class="mono">{{ address }}</span> names no page. What it was about may have another name by now.
      </p>
      <template v-else>
        <ErrorNote
          :error="{
            code: 'page_fault',
            what: error.message,
            touched: 'What you had begun here and not sent is lost; nothing else was changed by this.',
            next: 'Load the page again. If it fails again, look into the server’s log.',
          }"
        />
      </template>
      <nav class="flex gap-2.5" aria-label="Ways on">
        <UButton color="primary" variant="solid" @click="leave('/')">Go to Watch</UButton>
        <UButton @click="leave('/vessels')">Go to Vessels</UButton>
      </nav>
    </main>
  </UApp>
</template>
