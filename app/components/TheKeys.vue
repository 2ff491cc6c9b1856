<script setup lang="ts">
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
  ['?', 'this list'],
]
</script>

<template>
  <UModal v-model:open="open" :close="{ variant: 'ghost' }" title="Keys" description="They work wherever no text is being written.">
    <template #body>
      <dl class="grid grid-cols-[150px_1fr] gap-y-2 text-[13px]">
        <template v-for="[key, what] in KEYS" :key="key"
          ><dt class="mono">{{ key }}</dt>
          <dd>{{ what }}</dd></template
        >
      </dl>
    </template>
  </UModal>
</template>
