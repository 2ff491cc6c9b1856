<script setup lang="ts">
const { point, path } = defineProps<{ point: string; path: string }>()
const { data, error } = useLoad<{ yaml: string }>(() => `${pointUrl(point)}/object?path=${encodeURIComponent(path)}`, { tells: true })
/** Keys recede, what was written stands out. */
const lines = computed(() =>
  (data.value?.yaml ?? '').split('\n').map((line) => {
    const match = /^(\s*(?:- )?(?:"[^"]*"|[^\s:#"'][^:]*):)(\s.*)?$/.exec(line)
    return match ? { key: match[1]!, value: match[2] ?? '' } : { key: '', value: line }
  }),
)
</script>

<template>
  <CopyableText :text="data?.yaml" :error="error"
    ><span data-manifest
      ><template v-for="(line, i) in lines" :key="i"
        ><span class="soft">{{ line.key }}</span
        >{{ line.value }}{{ '\n' }}</template
      ></span
    ></CopyableText
  >
</template>
