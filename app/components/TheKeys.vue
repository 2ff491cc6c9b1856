<script setup lang="ts">
// The help: keys, and what words mean.
const open = useKeyHelp()
const KEYS = [
  ['Ctrl K', 'find or do anything'],
  ['g then w o v r s', 'to a place'],
  ['j  k', 'through a list'],
  ['Enter', 'open'],
  ['x', 'tick'],
  ['b', 'back up now'],
  ['Shift B', 'restore'],
  ['← →', 'move the scrubber by pixels'],
  ['Shift ← →', 'to the next mark'],
  ['[  ]', 'from one point to the next'],
  ['+  −', 'zoom the lifeline'],
  ['Esc', 'close'],
  ['?', 'this help'],
]
</script>

<template>
  <UModal
    v-model:open="open"
    :close="{ variant: 'ghost' }"
    title="Keys and words"
    description="Keys work wherever no text is being written."
    :ui="{ content: 'max-w-[760px]' }"
  >
    <template #body>
      <div class="grid gap-6 text-[13px]">
        <dl class="grid grid-cols-[132px_1fr_132px_1fr] gap-x-4 gap-y-2">
          <template v-for="[key, what] in KEYS" :key="key"
            ><dt class="mono">{{ key }}</dt>
            <dd>{{ what }}</dd></template
          >
        </dl>
        <section v-for="[group, words] in GLOSSARY" :key="group" :aria-label="group">
          <h3 class="border-b border-[var(--line)] pb-1.5 font-semibold">{{ group }}</h3>
          <dl class="grid grid-cols-[220px_1fr] gap-x-4 gap-y-1.5 pt-2" data-glossary>
            <template v-for="[word, means] in words" :key="word"
              ><dt class="font-medium">{{ word }}</dt>
              <dd class="soft">{{ means }}</dd></template
            >
          </dl>
        </section>
      </div>
    </template>
  </UModal>
</template>
