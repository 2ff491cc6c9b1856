<script setup lang="ts">
// A promise in natural units, or none.
const { units } = defineProps<{ label: string; help: string; units: { label: string; value: number }[] }>()
const value = defineModel<number | null>({ required: true })
const fitting = (ms: number) => [...units].reverse().find((unit) => ms % unit.value === 0 && ms >= unit.value)?.value ?? units[0]!.value
const unit = ref(value.value ? fitting(value.value) : 3_600_000)
const amount = computed({
  get: () => (value.value === null ? undefined : value.value / unit.value),
  set: (count: number | undefined) => (value.value = count && count > 0 ? Math.round(count * unit.value) : null),
})
const id = useId()
watch(unit, (now, before) => value.value !== null && (value.value = Math.round((value.value / before) * now)))
</script>

<template>
  <FieldRow :label="label" :field="id">
    <UInput :id="id" v-model.number="amount" type="number" min="1" class="w-24" placeholder="none" />
    <USelect v-model="unit" :items="units" value-key="value" class="w-28" :aria-label="`Unit of ${label}`" />
    <span class="soft">{{ help }}</span>
  </FieldRow>
</template>
