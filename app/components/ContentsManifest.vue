<script setup lang="ts">
const { point, path } = defineProps<{ point: string; path: string }>()
const { data, error } = useLoad<{ yaml: string }>(() => `/api/points/${encodeURIComponent(point)}/object?path=${encodeURIComponent(path)}`)
/** Keys recede, what was written stands out. */
const lines = computed(() =>
  (data.value?.yaml ?? '').split('\n').map((line) => {
    const match = /^(\s*(?:- )?(?:"[^"]*"|[^\s:#"'][^:]*):)(\s.*)?$/.exec(line)
    return match ? { key: match[1]!, value: match[2] ?? '' } : { key: '', value: line }
  }),
)
const copied = ref(false)
async function copy() {
  await navigator.clipboard.writeText(data.value!.yaml)
  copied.value = true
  setTimeout(() => (copied.value = false), 1500)
}
</script>

<template>
  <div class="relative min-h-0 flex-1 overflow-auto">
    <ErrorNote v-if="error" :error="error" class="m-4" />
    <div v-else-if="!data" class="grid gap-2 p-4"><USkeleton v-for="i in 10" :key="i" class="h-4" /></div>
    <template v-else>
      <UButton size="sm" class="absolute top-3 right-4" @click="copy">{{ copied ? 'Copied' : 'Copy' }}</UButton>
      <pre
        class="mono px-4 py-3 text-[12.5px] leading-[19px] whitespace-pre-wrap"
        data-manifest
      ><template v-for="(line, i) in lines" :key="i"><span class="soft">{{ line.key }}</span>{{ line.value }}{{ '\n' }}</template></pre>
    </template>
  </div>
</template>
