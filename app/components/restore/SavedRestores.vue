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
      <li v-for="one in saved" :key="one.id" class="flex h-11 items-center gap-4" data-saved>
        <span class="font-semibold">{{ one.name }}</span>
        <span class="soft cut" :title="one.wish.picks.join('\n')"
          >{{ inWords(one.wish) }}<template v-if="one.reason">, “{{ one.reason }}”</template></span
        >
        <span class="ml-auto flex shrink-0 items-center gap-2.5">
          <span v-if="!one.point" class="warning" data-begins>{{
            one.begins.which === 'named'
              ? 'its point is gone'
              : one.begins.which === 'newest'
                ? 'there is no point yet'
                : 'no point is complete'
          }}</span>
          <span v-else :class="one.point.lack ? 'warning' : 'soft'" :title="one.point.lack?.first" data-begins
            >{{ BEGINS[one.begins.which] }}, {{ whenOf(one.point.at)
            }}<template v-if="one.point.lack">, which lacks {{ plural(one.point.lack.count, 'thing') }}</template></span
          >
          <NuxtLink v-if="one.lastRun" :to="`/runs/${one.lastRun.id}`" class="lnk soft">last run {{ whenOf(one.lastRun.at) }}</NuxtLink>
          <UButton
            size="sm"
            :disabled="!one.point"
            :to="one.point ? `/vessels/${slug}/restore?saved=${one.id}&point=${one.point.id}` : undefined"
            >Restore again…</UButton
          >
          <UButton size="sm" variant="ghost" icon="i-lucide-x" :aria-label="`Forget ${one.name}`" @click="forget(one.id)" />
        </span>
      </li>
    </ul>
  </section>
</template>
