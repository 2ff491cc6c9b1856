<script setup lang="ts">
import { BACKUP_WORD, placeInPlan } from '~~/core/plan/words'
import { provenPart } from '~~/core/restore/receipt'
import type { Command } from '~/stores/commands'
import { useSettings } from '~/stores/settings'

const route = useRoute()
const { slug, data: vessel, error, refresh } = useVessel()
const now = useTicking()
const { backUp } = storeToRefs(useScreen())
useHead({ title: () => `${vessel.value?.name ?? slug.value} · Unbroken Vessel` })

const ALL_TABS = [
  { name: 'Lifeline', path: '' },
  { name: 'Contents', path: '/contents' },
  { name: 'Changes', path: '/changes' },
  { name: 'Definition', path: '/definition' },
  { name: 'Runs', path: '/runs' },
  { name: 'Restores', path: '/restores' },
]
/** Nothing is made any more of what was deleted. */
const tabs = computed(() => ALL_TABS.filter(({ path }) => !vessel.value?.gone || path !== '/definition'))
const isBare = computed(() => /\/(restore|undo)$/.test(route.path))
const here = (path: string) => route.path === `/vessels/${slug.value}${path}`

const toRestore = computed(() => ({ path: `/vessels/${slug.value}/restore`, query: route.query.at ? { at: route.query.at } : {} }))
useCommand(() => {
  if (!vessel.value || isBare.value) return []
  const { name, newest, gone } = vessel.value
  const of = (id: string, label: string, key: string, icon: string, run: () => void): Command => ({
    id,
    label,
    keys: [key],
    on: 'this page',
    listed: true,
    icon,
    run,
  })
  return [
    ...(gone ? [] : [of('back up', `Back up ${name} now`, 'b', 'i-lucide-archive', () => (backUp.value = [{ slug: slug.value, name }]))]),
    ...(newest ? [of('restore', `Restore from ${name}`, 'shift_b', 'i-lucide-undo-2', () => void navigateTo(toRestore.value))] : []),
  ]
})

const pausing = ref(false)
const resuming = ref(false)
const fail = useFailure()
async function resume() {
  resuming.value = true
  await $fetch(`/api/vessels/${slug.value}/pause`, { method: 'DELETE' }).catch(fail)
  await refresh()
  resuming.value = false
}

const settings = useSettings()
watchEffect(() => (settings.sourceZone = vessel.value?.zone ?? null))
onScopeDispose(() => (settings.sourceZone = null))

/** The newest gap with as much of time on both sides as it is long. */
const lastGap = computed(() => {
  const gap = vessel.value?.anySecond?.lastGap
  if (!gap) return {}
  const [from, to] = [Date.parse(gap.from), Date.parse(gap.to)]
  const iso = (at: number) => new Date(at).toISOString()
  const length = Math.max(60_000, to - from)
  return { path: `/vessels/${slug.value}`, query: { at: iso(from), from: iso(from - length), to: iso(to + length) } }
})
</script>

<template>
  <main v-if="error && !vessel" class="p-6"><ErrorNote :error="error" /></main>
  <main v-else-if="!vessel" class="grid gap-3 p-6" aria-busy="true">
    <USkeleton class="h-8 w-2/3" /><USkeleton class="h-5 w-1/3" /><USkeleton class="h-72 w-full" />
  </main>
  <NuxtPage v-else-if="isBare" :vessel="vessel" />
  <main v-else class="flex min-h-[calc(100vh-52px)] flex-col">
    <div class="flex items-start justify-between gap-6 px-6 pt-[11px]">
      <div class="min-w-0">
        <PageSentence>
          <template v-if="vessel.gone"
            >{{ vessel.name }} was deleted {{ dayOf(vessel.gone.gone.at)
            }}<template v-if="vessel.newest"
              >, and can be restored from {{ vessel.points === 1 ? 'one point' : `${countInWords(vessel.points)} points` }} for
              now</template
            >.</template
          >
          <template v-else-if="vessel.newest">
            {{ vessel.name }} can be restored to
            <template v-if="vessel.anySecond"
              >any second since {{ dateOf(vessel.anySecond.since) }} {{ clockOf(vessel.anySecond.since)
              }}<template v-if="vessel.anySecond.gaps > 0"
                >, except for
                <NuxtLink :to="lastGap" style="border-color: var(--error)">{{
                  vessel.anySecond.gaps === 1 ? 'one gap' : `${numberInWords(vessel.anySecond.gaps)} gaps`
                }}</NuxtLink></template
              ></template
            ><template v-else-if="vessel.points === 1">one moment</template
            ><template v-else>{{ countInWords(vessel.points) }} moments since {{ dateOf(vessel.oldest!) }}</template
            ><template v-if="vessel.damaged > 0"
              >, but not whole from
              <NuxtLink :to="`/vessels/${slug}`" style="border-color: var(--error)">{{
                vessel.damaged === 1 ? 'one damaged point' : `${numberInWords(vessel.damaged)} damaged points`
              }}</NuxtLink></template
            >.
            <NuxtLink v-if="vessel.proven" :to="`/runs/${vessel.proven.run}`" style="border-color: var(--gold-line)"
              >Proven {{ dayOf(vessel.proven.at) }}</NuxtLink
            ><template v-if="vessel.proven">: {{ provenPart(vessel.proven) }}</template
            ><template v-else>Not proven yet</template>.
          </template>
          <template v-else>{{ vessel.name }} cannot be restored: it has no recovery point yet.</template>
        </PageSentence>
        <p v-if="vessel.gone" class="mt-[5px] text-[13px]" data-is-gone>
          {{ staysInWords(vessel.gone) }}
          <span class="soft">Deleted {{ whenOf(vessel.gone.gone.at) }} by {{ vessel.gone.gone.by }}: {{ vessel.gone.gone.reason }}</span>
        </p>
        <p v-else class="mt-[5px] flex items-center gap-2 text-[13px]">
          <VesselBowl :state="vessel.state" :size="18" />
          <ExplainedWord :why="STATE_WHY[vessel.state]"
            ><span class="font-semibold" :style="{ color: STATE_TEXT[vessel.state] }">{{ vessel.state }}</span></ExplainedWord
          >
          <span class="cut" :title="vessel.reason">{{ vessel.reason }}</span>
          <NuxtLink v-if="vessel.running" :to="`/runs/${vessel.running.id}`" class="lnk"
            >{{ withArticle(RUN_KIND[vessel.running.kind as keyof typeof RUN_KIND]) }} is running</NuxtLink
          >
          <span v-else-if="vessel.planned" class="soft cut" :title="placeInPlan(vessel.planned, vessel.planned.what)" data-planned
            >Next: {{ BACKUP_WORD[vessel.planned.what] }}, {{ timeOfPlan(vessel.planned.at, vessel.planned.zone) }}.</span
          >
          <NuxtLink
            v-if="vessel.pause?.with"
            :to="vessel.pause.with === 'everything' ? '/' : `/sources/${vessel.pause.with}`"
            class="lnk shrink-0"
            >Where it is resumed</NuxtLink
          >
          <button v-else-if="vessel.pause" type="button" class="lnk shrink-0" data-resume :disabled="resuming" @click="resume">
            Resume
          </button>
          <button v-else-if="vessel.definition.schedule" type="button" class="lnk shrink-0" data-pause @click="pausing = true">
            Pause…
          </button>
        </p>
      </div>
      <div class="flex shrink-0 gap-2.5 pt-[3px]">
        <UButton v-if="!vessel.gone" @click="backUp = [{ slug, name: vessel.name }]">Back up now</UButton>
        <UButton v-if="vessel.newest" :to="toRestore">Restore…</UButton>
      </div>
    </div>
    <PauseIt v-model:open="pausing" :address="`/api/vessels/${slug}/pause`" :name="vessel.name" />
    <LossStrip :losses="vessel.losses" :slug="slug" />
    <div class="mx-6 mt-1 flex h-9 items-stretch gap-[26px] border-b border-[var(--line)]">
      <nav class="contents" aria-label="Tabs">
        <NuxtLink
          v-for="tab in tabs"
          :key="tab.path"
          :to="`/vessels/${slug}${tab.path}`"
          class="flex items-center"
          :aria-current="here(tab.path) ? 'page' : undefined"
          :class="here(tab.path) ? 'font-semibold shadow-[inset_0_-2px_0_var(--ink)]' : 'soft hover:text-[var(--ink)]'"
          >{{ tab.name }}</NuxtLink
        >
      </nav>
      <div id="tab-tools" class="ml-auto flex items-center" />
    </div>
    <NuxtPage :vessel="vessel" :now="now" @changed="refresh" />
  </main>
</template>
