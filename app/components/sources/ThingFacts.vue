<script setup lang="ts">
import { lastName, namesOf } from '~~/core/things/thing'
import type { SourceView, ThingView } from '~~/server/views'

const { thing, source, among } = defineProps<{ thing: ThingView | null; source: SourceView | null; among: ThingView[] }>()
defineEmits<{ reach: [] }>()
const probing = ref(false)
const fail = useFailure()
async function again(what: 'probe' | 'discover') {
  probing.value = true
  await post(`/api/sources/${source!.id}/${what}`).catch(fail)
  probing.value = false
}
const pausing = ref(false)
const deleting = ref(false)
const resume = () => $fetch(`/api/sources/${source!.id}/pause`, { method: 'DELETE' }).catch(fail)
const isSource = computed(() => thing?.kind === 'server' || thing?.kind === 'cluster')
const usedBy = computed(() => among.filter(({ facts }) => thing && facts.uses?.includes(thing.path)))
// The same that the bar above asks for.
const { data: running } = useRunning()
const runsOf = (slug: string) => (running.value ?? []).filter((run) => run.slug === slug)
const facts = computed(() => {
  if (!thing) return []
  const { facts } = thing
  const all: [string, string | undefined][] = [
    ['Kind', facts.kind ?? thing.kind.replace('-', ' ')],
    ['API', facts.apiVersion],
    ['Version', facts.version],
    ['Owner', facts.owner],
    ['Rows', thing.kind === 'table' || thing.kind === 'materialized-view' ? `about ${countInWords(thing.rows)}` : undefined],
    ['Size', thing.bytes > 0 ? bytesInWords(thing.bytes) : undefined],
    ['Tables in it', ['server', 'database', 'schema'].includes(thing.kind) ? countInWords(thing.tables) : undefined],
    ['Things in it', ['cluster', 'namespace'].includes(thing.kind) ? countInWords(thing.tables) : undefined],
    [
      'Storage',
      facts.storageClass === undefined ? undefined : `${facts.storageClass}, ${facts.snapshots ? 'with snapshots' : 'without snapshots'}`,
    ],
    ['Partitions', facts.partitions ? String(facts.partitions) : undefined],
    ['Partition of', facts.partitionOf],
    ['Comment', facts.comment],
    ['Found first', whenOf(thing.since)],
  ]
  return all.filter((fact): fact is [string, string] => fact[1] !== undefined)
})
const restoreBy = computed(() => (thing?.goneAt && thing.claims.length === 0 ? null : thing?.claims[0]?.slug))
</script>

<template>
  <aside class="sheet w-[330px] shrink-0 overflow-y-auto border-t-0 px-5 pt-3 pb-6 text-[13px] max-[1150px]:w-[280px]" aria-label="Facts">
    <template v-if="!thing">
      <p class="soft">Choose something to see what is known of it.</p>
      <DeletedPlaces kind="source" />
    </template>
    <template v-else>
      <h2 class="mono text-[14px] font-semibold break-words">
        <span :class="{ 'line-through': thing.goneAt }">{{ thing.name }}</span> <CopyIt icon :text="thing.path" label="Copy the path" />
      </h2>
      <p v-if="thing.goneAt" class="error mt-1">Gone since {{ whenOf(thing.goneAt) }}. Its points still hold it.</p>
      <p v-if="thing.facts.trouble" class="warning mt-1">{{ thing.facts.trouble }}</p>
      <ErrorNote v-if="isSource && source?.trouble" :error="source.trouble" class="mt-2" />
      <dl class="rule mt-2 border-y border-[var(--line)]">
        <div v-for="[name, value] in facts" :key="name" class="grid grid-cols-[100px_1fr] gap-2 py-1.5">
          <dt class="soft">{{ name }}</dt>
          <dd class="min-w-0 break-words">{{ value }}</dd>
        </div>
      </dl>
      <p v-if="Object.keys(thing.labels).length > 0" class="mt-2.5 flex flex-wrap gap-x-3 gap-y-0.5" aria-label="Labels">
        <span v-for="(value, key) in thing.labels" :key="key" class="mono text-[12px] break-all"
          ><span class="soft">{{ key }}=</span>{{ value }}</span
        >
      </p>
      <template v-if="thing.facts.uses || usedBy.length > 0">
        <h3 class="mt-4 mb-1 font-semibold">Belongs together</h3>
        <p v-for="path in thing.facts.uses" :key="path" class="py-0.5">
          <span class="soft">uses {{ namesOf(path).at(-2) }}{{ ' ' }}</span
          ><NuxtLink :to="thingLink(path)" class="lnk mono">{{ lastName(path) }}</NuxtLink>
        </p>
        <p v-for="user in usedBy" :key="user.path" class="py-0.5">
          <span class="soft">used by {{ user.facts.kind }}{{ ' ' }}</span
          ><NuxtLink :to="thingLink(user.path)" class="lnk mono">{{ user.name }}</NuxtLink>
        </p>
      </template>
      <template v-if="isSource && source">
        <p class="soft mt-2.5">
          <span class="break-all">{{ source.address }}</span> as {{ source.user }}, TLS {{ source.tls }}.
          <button class="lnk text-[var(--ink)]" @click="$emit('reach')">Change…</button>
          <button class="lnk ml-2" data-delete-source @click="deleting = true">Delete…</button>
          <DeleteSource v-if="deleting" :source="source" @close="deleting = false" @done="navigateTo('/sources')" />
        </p>
        <p class="soft mt-1.5">
          Discovered {{ source.discoveredAt ? whenOf(source.discoveredAt) : 'never' }}.
          <button class="lnk text-[var(--ink)]" :disabled="probing" @click="again('discover')">Discover again</button>
        </p>
      </template>
      <SourceQuiet v-if="isSource && source" :source="source" />
      <AtOnce v-if="isSource && source" :address="`/api/sources/${source.id}/at-once`" :at-once="source.atOnce" class="mt-2" />
      <p v-if="isSource && source" class="soft mt-1.5" data-source-pause>
        <template v-if="source.pause"
          ><b class="warning font-medium">Paused since {{ whenOf(source.pause.since) }} by {{ source.pause.by }}:</b>
          {{ source.pause.reason }} <button class="lnk text-[var(--ink)]" data-resume @click="resume">Resume</button></template
        >
        <template v-else
          >What is taken from it is backed up by its plans.
          <button class="lnk text-[var(--ink)]" data-pause @click="pausing = true">Pause…</button></template
        >
        <PauseIt v-model:open="pausing" :address="`/api/sources/${source.id}/pause`" :name="`all that is taken from ${source.name}`" />
      </p>
      <h3 class="mt-4 mb-1 font-semibold">Protected by</h3>
      <p v-if="thing.claims.length === 0" class="soft">
        No vessel.
        <NuxtLink
          v-if="!thing.goneAt && !isSource"
          :to="`/vessels/new?take=${encodeURIComponent(thing.path)}`"
          class="lnk text-[var(--ink)]"
          >Protect…</NuxtLink
        >
      </p>
      <p v-if="isSource && !thing.goneAt && thing.cover !== 'all'" class="mt-1">
        <NuxtLink
          :to="`/vessels/new?take=${encodeURIComponent(`${thing.path}/*`)}`"
          class="lnk"
          title="With what is found there later. What that takes now is shown before it is saved."
          data-protect-all
          >Protect everything that appears here…</NuxtLink
        >
      </p>
      <p v-for="claim in thing.claims" :key="claim.slug" class="py-0.5">
        <NuxtLink :to="`/vessels/${claim.slug}`" class="lnk font-medium">{{ claim.vessel }}</NuxtLink><span class="soft block"
          >by <span class="mono">{{ claim.rule }}</span></span
        ><NuxtLink v-for="run in runsOf(claim.slug)" :key="run.id" :to="`/runs/${run.id}`" class="lnk mr-3" data-running
          >{{ kindOfRun(run) }}, {{ RUN_STATE[run.state].word }}</NuxtLink
        >
      </p>
      <p v-if="thing.claims.length > 0 && thing.cover === 'part'" class="warning">In part; some of it is taken by no rule.</p>
      <UButton
        v-if="restoreBy && namesOf(thing.path).length > 1"
        :to="`/vessels/${restoreBy}/restore?pick=${encodeURIComponent(thing.path)}`"
        size="sm"
        class="mt-3"
        >Restore…</UButton
      >
      <UButton
        v-if="restoreBy && thing.kind === 'table'"
        :to="`/vessels/${restoreBy}/contents?show=${encodeURIComponent(thing.path)}`"
        size="sm"
        class="mt-3 ml-2.5"
        >Look inside</UButton
      >
      <template v-if="isSource && source">
        <div class="mt-5 mb-1 flex items-baseline justify-between">
          <h3 class="font-semibold">Probed {{ source.probe ? agoInWords(new Date(source.probe.at), new Date()) : '' }}</h3>
          <button class="lnk" :disabled="probing" @click="again('probe')">{{ probing ? 'testing…' : 'Test again' }}</button>
        </div>
        <ProbeList v-if="source.probe" :findings="source.probe.findings" />
      </template>
    </template>
  </aside>
</template>
