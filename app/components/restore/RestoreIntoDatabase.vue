<script setup lang="ts">
// Where things of databases go, and what of them.
const { sources } = defineProps<{
  /** Names of the sources that databases can be restored to. */
  sources: string[]
}>()
const bench = useWorkbench()
const { choices } = bench
const INTO = [
  ['original', 'original place'],
  ['beside', 'beside it'],
  ['elsewhere', 'elsewhere'],
  ['scratch', 'a scratch copy'],
] as const
const WHAT = [
  ['both', 'structure and rows'],
  ['structure', 'structure'],
  ['rows', 'rows'],
] as const
const ownSource = computed(() => bench.things.find(({ kind }) => kind === 'database')?.path.split('/')[0] ?? '')
watch(
  ownSource,
  (name) => {
    choices.elsewhere.source ||= name
    choices.scratch.source ||= name
  },
  { immediate: true },
)
const schemas = computed(() => [...new Set(Object.values(bench.contents?.schemas ?? {}).flat())])
const HOURS = [1, 4, 8, 24, 72, 168].map((value) => ({ label: value < 24 ? plural(value, 'hour') : plural(value / 24, 'day'), value }))
</script>

<template>
  <div>
    <div class="soft s12 mb-1.5">{{ bench.isOfCluster ? 'Database into' : 'Into' }}</div>
    <div class="flex items-center gap-2.5">
      <ChoiceBar v-model="choices.mode" :choices="INTO" label="Into" />
      <template v-if="choices.mode === 'beside'">
        <UInputMenu
          :model-value="choices.beside.schema ?? undefined"
          :items="schemas"
          create-item
          placeholder="its own schema"
          aria-label="In which schema"
          class="w-36"
          @update:model-value="(name) => (choices.beside.schema = name || null)"
          @create="(name: string) => (choices.beside.schema = name)"
        />
        <UInput
          v-model="choices.beside.prefix"
          name="prefix"
          placeholder="prefix"
          aria-label="Prefix of names"
          class="w-20"
          :maxlength="40"
        />
        <UInput
          v-model="choices.beside.suffix"
          name="suffix"
          placeholder="suffix"
          aria-label="Suffix of names"
          class="w-20"
          :maxlength="40"
        />
      </template>
      <template v-else-if="choices.mode === 'elsewhere'">
        <USelect
          v-if="sources.length > 1"
          v-model="choices.elsewhere.source"
          :items="sources"
          aria-label="On which source"
          class="h-[30px] w-32"
        />
        <UInput
          v-model="choices.elsewhere.database"
          name="database"
          placeholder="database"
          aria-label="Into which database"
          class="w-36"
          :maxlength="63"
        />
      </template>
      <template v-else-if="choices.mode === 'scratch'">
        <USelect
          v-if="sources.length > 1"
          v-model="choices.scratch.source"
          :items="sources"
          aria-label="On which source"
          class="h-[30px] w-32"
        />
        <span class="soft">dropped after</span>
        <USelect v-model="choices.scratch.hours" value-key="value" :items="HOURS" aria-label="Dropped after" class="h-[30px] w-24" />
      </template>
    </div>
  </div>

  <div>
    <div class="soft s12 mb-1.5">What of it</div>
    <ChoiceBar v-model="choices.what" :choices="WHAT" label="What of it" />
  </div>
</template>
