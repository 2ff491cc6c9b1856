<script setup lang="ts">
import { keysInWords, useCommands } from '~/stores/commands'

// The help: keys, and what words mean.
const { help: open } = storeToRefs(useScreen())
const commands = useCommands()
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
      <div class="grid gap-6 text-[13px]" tabindex="0" role="group" aria-label="Keys and words">
        <section v-for="{ on, commands: known } in commands.groups" :key="on" :aria-label="`Keys on ${on}`">
          <h3 class="border-b border-[var(--line)] pb-1.5 font-semibold">On {{ on }}</h3>
          <dl class="grid grid-cols-[148px_1fr_148px_1fr] items-center gap-x-4 gap-y-2 pt-2">
            <template v-for="{ id, label, keys } in known" :key="id"
              ><dt class="flex items-center gap-1">
                <template v-for="(key, i) in keys" :key="key"
                  ><span v-if="i > 0" class="soft s12">or</span><UKbd v-for="part in keysInWords(key)" :key="part" :value="part"
                /></template>
              </dt>
              <dd>{{ label }}</dd></template
            >
          </dl>
        </section>
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
