<script setup lang="ts">
useHead({ title: 'Runs · Unbroken Vessel' })
const route = useRoute()
const setQuery = useQuery()
const KINDS = [
  ['backup', 'Backups'],
  ['restore', 'Restored'],
  ['undo', 'Undone'],
  ['rehearsal,still', 'Rehearsals'],
  ['fetch', 'Read in'],
  ['verify,reindex', 'Verifications'],
  ['audit', 'Audits'],
] as const
const STATES = [
  ['running,waiting', 'at work'],
  ['done', 'done'],
  ['warned', 'with warnings'],
  ['failed', 'failed'],
  ['cancelled', 'cancelled'],
] as const
const kinds = computed(() => String(route.query.kinds ?? ''))
const states = computed(() => String(route.query.states ?? ''))
const query = computed(() =>
  new URLSearchParams({ ...(kinds.value ? { kinds: kinds.value } : {}), ...(states.value ? { states: states.value } : {}) }).toString(),
)
function set(name: 'kinds' | 'states', value: string) {
  void setQuery({ [name]: route.query[name] === value ? undefined : value })
}
</script>

<template>
  <main class="px-6 pt-[11px] pb-8">
    <PageSentence>Everything that was backed up, restored, rehearsed and verified, newest first.</PageSentence>
    <div class="mt-3 mb-3 flex flex-wrap items-center gap-x-5 gap-y-2 text-[13px]" role="group" aria-label="Filters">
      <button
        v-for="[value, label] in KINDS"
        :key="value"
        :aria-pressed="kinds === value"
        class="border-b-2"
        :class="kinds === value ? 'border-[var(--ink)] font-semibold' : 'soft border-transparent hover:text-[var(--ink)]'"
        @click="set('kinds', value)"
      >
        {{ label }}
      </button>
      <span class="h-4 border-l border-[var(--line-strong)]" />
      <button
        v-for="[value, label] in STATES"
        :key="value"
        :aria-pressed="states === value"
        class="border-b-2"
        :class="states === value ? 'border-[var(--ink)] font-semibold' : 'soft border-transparent hover:text-[var(--ink)]'"
        @click="set('states', value)"
      >
        {{ label }}
      </button>
    </div>
    <RunList :query="query" empty="No run is like this." />
  </main>
</template>
