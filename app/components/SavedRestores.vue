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
    <h2 class="flex items-baseline justify-between border-b border-[var(--line)] pb-1.5 text-[13px]">
      <span class="font-semibold">Saved restores</span><span class="soft s12">begin with the newest point</span>
    </h2>
    <ErrorNote v-if="failure" :error="failure" class="mt-2" />
    <ul class="rule text-[13px]">
      <li v-for="one in saved" :key="one.id" class="flex h-11 items-center gap-4" data-saved>
        <span class="font-semibold">{{ one.name }}</span>
        <span class="soft cut" :title="one.wish.picks.join('\n')"
          >{{ inWords(one.wish) }}<template v-if="one.reason">, “{{ one.reason }}”</template></span
        >
        <span class="ml-auto flex shrink-0 items-center gap-2.5">
          <NuxtLink v-if="one.lastRun" :to="`/runs/${one.lastRun.id}`" class="lnk soft">last run {{ whenOf(one.lastRun.at) }}</NuxtLink>
          <UButton size="sm" :to="`/vessels/${slug}/restore?saved=${one.id}`">Run it…</UButton>
          <UButton size="sm" variant="ghost" icon="i-lucide-x" :aria-label="`Forget ${one.name}`" @click="forget(one.id)" />
        </span>
      </li>
    </ul>
  </section>
</template>
