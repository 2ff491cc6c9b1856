<script setup lang="ts">
import type { ErrorRecord } from '~~/core/errors'
import type { Wish } from '~~/core/restore/wish'
import { lastName } from '~~/core/things/thing'
import type { RestoresView } from '~~/server/views'

const { saved, slug } = defineProps<{ saved: RestoresView['saved']; slug: string }>()
const emit = defineEmits<{ changed: [] }>()
const failure = shallowRef<ErrorRecord | null>(null)
async function forget(id: string) {
  await $fetch(`/api/saved-restores/${id}`, { method: 'DELETE' }).catch((thrown) => (failure.value = errorOf(thrown)))
  emit('changed')
}
const BEGINS = { 'newest good': 'the newest complete point', newest: 'the newest point', named: 'always the point' } as const
function inWords({ picks, into, what }: Wish): string {
  const things = picks.length <= 2 ? picks.map(lastName).join(' and ') : `${lastName(picks[0]!)} and ${picks.length - 1} more`
  const where = {
    original: 'in its place',
    beside: 'beside the original',
    elsewhere: into.mode === 'elsewhere' ? `into ${into.database} on ${into.source}` : '',
    scratch: into.mode === 'scratch' ? `as a scratch copy for ${plural(into.hours, 'hour')}` : '',
  }[into.mode]
  return `${what === 'both' ? '' : `${what} of `}${things}, ${where}`
}
</script>

<template>
  <section v-if="saved.length > 0" aria-label="Saved restores">
    <h2 class="border-b border-[var(--line)] pb-1.5 text-[13px] font-semibold">Saved restores</h2>
    <ErrorNote v-if="failure" :error="failure" class="mt-2" />
    <ul class="rule text-[13px]">
      <li v-for="restore in saved" :key="restore.id" class="flex h-11 items-center gap-4" data-saved>
        <span class="font-semibold">{{ restore.name }}</span>
        <span class="soft cut" :title="restore.wish.picks.join('\n')"
          >{{ inWords(restore.wish) }}<template v-if="restore.reason">, “{{ restore.reason }}”</template></span
        >
        <span class="ml-auto flex shrink-0 items-center gap-2.5">
          <span v-if="!restore.point" class="warning" data-begins>{{
            restore.begins.which === 'named'
              ? 'its point is gone'
              : restore.begins.which === 'newest'
                ? 'there is no point yet'
                : 'no point is complete'
          }}</span>
          <span v-else :class="restore.point.lack ? 'warning' : 'soft'" :title="restore.point.lack?.first" data-begins
            >{{ BEGINS[restore.begins.which] }}, {{ whenOf(restore.point.at)
            }}<template v-if="restore.point.lack">, which lacks {{ plural(restore.point.lack.count, 'thing') }}</template></span
          >
          <NuxtLink v-if="restore.lastRun" :to="`/runs/${restore.lastRun.id}`" class="lnk soft"
            >last run {{ whenOf(restore.lastRun.at) }}</NuxtLink
          >
          <UButton
            size="sm"
            :disabled="!restore.point"
            :to="restore.point ? `/vessels/${slug}/restore?saved=${restore.id}&point=${restore.point.id}` : undefined"
            >Restore again…</UButton
          >
          <UButton size="sm" variant="ghost" icon="i-lucide-x" :aria-label="`Forget ${restore.name}`" @click="forget(restore.id)" />
        </span>
      </li>
    </ul>
  </section>
</template>
