<script setup lang="ts">
// Sources or stores that were deleted, by whom and why.
const { kind } = defineProps<{ kind: 'source' | 'store' }>()
const { data } = useDeletedPlaces()
const places = computed(() => data.value?.filter((place) => place.kind === kind) ?? [])
</script>

<template>
  <section v-if="places.length > 0" class="soft mt-4 border-t border-[var(--line)] pt-3 text-[13px]" data-deleted-places>
    <p v-for="place in places" :key="place.id">{{ place.name }} was deleted {{ whenOf(place.at) }} by {{ place.by }}: {{ place.why }}</p>
  </section>
</template>
