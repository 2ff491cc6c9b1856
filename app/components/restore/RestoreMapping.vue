<script setup lang="ts">
import type { Change, Exposure } from '~~/core/cluster/wish'
import { KEEP_DAYS } from '~~/core/restore/wish'

// What becomes another one on the way: classes, names, labels, images, anything by JSON Patch; and what is done afterwards.
const bench = useWorkbench()
const { cluster } = bench.choices
const all = <T,>(of: (plan: (typeof bench.namespaces)[number]) => T[]) => [...new Set(bench.namespaces.flatMap(of))]
const classes = computed(() => all(({ asks }) => asks.classes))
const classesThere = computed(() => all(({ there }) => there.classes))
const registries = computed(() => all(({ asks }) => asks.registries))
function put(field: 'classes' | 'registries', from: string, to: string) {
  const { [from]: _, ...others } = cluster[field]
  cluster[field] = to.trim() === '' || to === from ? others : { ...others, [from]: to.trim() }
}
const EXAMPLE = '[{"kind": "Deployment", "name": "*", "patch": [{"op": "replace", "path": "/spec/replicas", "value": 1}]}]'
const EXPOSURE: readonly (readonly [Exposure | 'usual', string])[] = [
  ['usual', 'as is safe'],
  ['keep', 'as they were'],
  ['unplug', 'unplugged'],
  ['leave', 'left out'],
]
const exposure = computed({
  get: () => cluster.exposure ?? 'usual',
  set: (chosen: Exposure | 'usual') => (cluster.exposure = chosen === 'usual' ? null : chosen),
})
// Labels as people write them: one in a line, name=value; a name with a minus before it is taken away.
const labelText = ref(
  Object.entries(cluster.labels)
    .map(([name, value]) => (value === null ? `-${name}` : `${name}=${value}`))
    .join('\n'),
)
watch(labelText, (text) => {
  const lines = text
    .split('\n')
    .map((line) => line.trim())
    .filter(Boolean)
  cluster.labels = Object.fromEntries(
    lines.map((line): [string, string | null] =>
      line.startsWith('-') ? [line.slice(1), null] : [line.split('=')[0]!, line.split('=').slice(1).join('=')],
    ),
  )
})
const changeText = ref(cluster.changes.length > 0 ? JSON.stringify(cluster.changes, null, 1) : '')
const changeTrouble = ref('')
watch(changeText, (text) => {
  changeTrouble.value = ''
  if (text.trim() === '') return void (cluster.changes = [])
  try {
    const read: unknown = JSON.parse(text)
    const list = (Array.isArray(read) ? read : [read]) as Change[]
    if (!list.every((change) => typeof change?.kind === 'string' && Array.isArray(change.patch)))
      throw new Error('each change needs a kind and a patch')
    cluster.changes = list.map(({ kind, name, patch }) => ({ kind, name: name || '*', patch }))
  } catch (error) {
    changeTrouble.value = `It can’t be read yet: ${(error as Error).message}`
  }
})
const after = computed({
  get: () => cluster.after[0]?.act,
  set: () => undefined,
})
const command = ref(after.value?.kind === 'exec' ? after.value.command.join(' ') : '')
const selector = ref(after.value?.kind === 'exec' ? after.value.selector : '')
watch([command, selector], () => {
  const words = command.value.trim().split(/\s+/).filter(Boolean)
  cluster.after =
    words.length === 0 || selector.value.trim() === ''
      ? []
      : [
          {
            name: 'check',
            act: { kind: 'exec', selector: selector.value.trim(), container: '', pods: 'one', active: '', command: words },
            limitMs: 60_000,
          },
        ]
})
const changed = computed(
  () =>
    Object.keys(cluster.classes).length +
    Object.keys(cluster.registries).length +
    Object.keys(cluster.labels).length +
    cluster.changes.length +
    cluster.after.length +
    Number(cluster.prefix !== '') +
    Number(cluster.suffix !== '') +
    Number(cluster.exposure !== null) +
    Number(cluster.atRest) +
    Number(!cluster.secrets),
)
</script>

<template>
  <UPopover :ui="{ content: 'w-[530px] max-h-[80vh] overflow-y-auto p-4 shadow-none ring ring-[var(--line-strong)] bg-[var(--sheet)]' }">
    <UButton size="sm" class="h-[30px]" data-mapping
      >Mappings<span v-if="changed" class="glaze">, {{ changed }} chosen</span></UButton
    >
    <template #content>
      <div class="grid grid-cols-[130px_1fr] items-center gap-x-3 gap-y-2.5 text-[13px]">
        <template v-for="name in classes" :key="name">
          <span class="mono cut" :title="name">class {{ name }}</span>
          <USelect
            :model-value="cluster.classes[name] ?? name"
            :items="[...new Set([name, ...classesThere])]"
            :aria-label="`In place of storage class ${name}`"
            @update:model-value="(to) => put('classes', name, String(to))"
          />
        </template>
        <template v-for="name in registries" :key="name">
          <span class="mono cut" :title="name">{{ name }}</span>
          <UInput
            :model-value="cluster.registries[name] ?? name"
            class="mono"
            :aria-label="`In place of images of ${name}`"
            @update:model-value="(to) => put('registries', name, String(to))"
          />
        </template>
        <span>Names</span>
        <span class="flex gap-2"
          ><UInput v-model="cluster.prefix" placeholder="prefix" aria-label="Prefix of names there" class="mono w-full" /><UInput
            v-model="cluster.suffix"
            placeholder="suffix"
            aria-label="Suffix of names there"
            class="mono w-full"
        /></span>
        <span>Services, ingresses</span>
        <span><ChoiceBar v-model="exposure" :choices="EXPOSURE" label="Services and ingresses" /></span>
        <span>Workloads</span>
        <USwitch v-model="cluster.atRest" :label="cluster.atRest ? 'are left at rest' : 'are started'" data-at-rest />
        <span>Secrets</span>
        <USwitch v-model="cluster.secrets" :label="cluster.secrets ? 'are restored' : 'are left out'" />
        <label for="map-labels" class="self-start pt-1.5">Labels</label>
        <UTextarea id="map-labels" v-model="labelText" :rows="2" class="mono" placeholder="copy=yes&#10;-team" />
        <label for="map-changes" class="self-start pt-1.5">Changes, as JSON Patch</label>
        <span>
          <UTextarea id="map-changes" v-model="changeText" :rows="3" class="mono w-full" :placeholder="EXAMPLE" />
          <span v-if="changeTrouble" class="warning s12 block">{{ changeTrouble }}</span>
        </span>
        <label for="map-after" class="self-start pt-1.5">When all is ready, run</label>
        <span class="grid gap-2">
          <UInput id="map-after" v-model="command" class="mono" placeholder="manifestctl verify /data" />
          <span class="flex items-center gap-2"
            ><span class="soft shrink-0">in a pod labelled</span
            ><UInput v-model="selector" class="mono w-full" placeholder="app=manifest" aria-label="In which pod"
          /></span>
        </span>
        <span>What is overwritten</span>
        <span class="flex items-center gap-2"
          >is kept for<UInput
            v-model.number="bench.choices.keepDays"
            type="number"
            :min="KEEP_DAYS.min"
            :max="KEEP_DAYS.max"
            class="w-20"
            aria-label="Days"
          />days</span
        >
      </div>
    </template>
  </UPopover>
</template>
