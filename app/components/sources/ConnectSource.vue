<script setup lang="ts">
import { Access, NewSource } from '~~/core/asked'
import type { ErrorRecord } from '~~/core/errors'
import type { SourceView, ProbeReport } from '~~/server/views'

const open = defineModel<boolean>('open', { required: true })
/** One that is there, and is to be reached in another way from now on; null for a new one. */
const { source = null } = defineProps<{ source?: SourceView | null }>()
const { form, body, begin } = useSourceForm(() => source)
const report = shallowRef<ProbeReport | null>(null)
const error = shallowRef<ErrorRecord | null>(null)
const busy = ref<'probe' | 'save' | null>(null)
const replaces = ref(false)
watch(open, (is) => is && begin(), { immediate: true })
// A report speaks of what was tested; once that is changed it speaks of nothing.
watch(body, () => {
  report.value = null
  error.value = null
  replaces.value = false
})

async function test() {
  busy.value = 'probe'
  error.value = null
  const to = source ? `/api/sources/${source.id}/reach` : '/api/sources/probe'
  report.value = await post<ProbeReport>(to, body.value).catch((thrown) => ((error.value = errorOf(thrown)), null))
  busy.value = null
}
async function save() {
  busy.value = 'save'
  error.value = null
  try {
    if (source) await post(`/api/sources/${source.id}/reach`, { ...body.value, replaces: replaces.value }, 'PUT')
    else await post('/api/sources', body.value)
    const { name } = form
    begin()
    await navigateTo(`/sources/${encodeURIComponent(name)}`)
  } catch (thrown) {
    error.value = errorOf(thrown)
  } finally {
    busy.value = null
  }
}
const verdict = computed(() => {
  if (!report.value?.usable) return source ? 'It cannot be used like this.' : 'It cannot be used yet.'
  const isAll = report.value.findings.every(({ outcome }) => outcome === 'ok')
  return isAll ? 'Everything is there.' : 'It can be used; some things are missing for more.'
})
/** What has to be installed at a source, and what its version allows. */
const NEEDS = {
  postgres:
    'Nothing is installed at the server. From version 14 on everything works; the log is followed where wal_level is logical. A restore into an older version than that of the backup is possible, and tells what that version does not know.',
  kubernetes:
    'Nothing stays in the cluster. While a volume is read or filled, a pod of the image below runs there; a storage class with snapshots lets a volume be read as of one moment, others are read in place.',
} as const
</script>

<template>
  <USlideover
    v-model:open="open"
    :close="{ variant: 'ghost' }"
    :title="source ? `How ${source.name} is reached` : 'Connect a source'"
    :description="
      source
        ? 'It is tested before it is saved. What is known of it, and every point, stays.'
        : 'It is tested before it is saved; nothing is changed on it.'
    "
    :ui="{ content: 'max-w-xl' }"
  >
    <template #body>
      <UForm id="connect" :schema="source ? Access : NewSource" :state="body" class="grid gap-3.5" @submit="test">
        <template v-if="!source">
          <ChoiceBar
            v-model="form.kind"
            :choices="[
              ['postgres', 'PostgreSQL server, 14 or newer'],
              ['kubernetes', 'container cluster'],
            ]"
            label="What it is"
            class="justify-self-start"
          />
          <UFormField label="Name" name="name" help="What it is called here, and the beginning of every path."
            ><UInput
              v-model="form.name"
              name="name"
              class="w-full"
              :placeholder="form.kind === 'postgres' ? 'ferry-db' : 'pier'"
              autocomplete="off"
          /></UFormField>
        </template>
        <p class="soft text-[13px]" data-needs>{{ NEEDS[form.kind] }}</p>
        <SourceCluster v-if="form.kind === 'kubernetes'" v-model="form" :is-kept="source !== null" />
        <SourcePostgres v-else v-model="form" :is-kept="source !== null" />
      </UForm>
      <ErrorNote v-if="error" :error="error" class="mt-4" />
      <UCheckbox
        v-if="source && (replaces || error?.code === 'another_system')"
        v-model="replaces"
        name="replaces"
        class="mt-3"
        :label="`It takes the place of what ${source.name} was so far.`"
      />
      <section v-if="report" class="mt-5" aria-live="polite">
        <h3 class="mb-1.5 font-semibold">{{ verdict }}</h3>
        <ProbeList :findings="report.findings" />
      </section>
    </template>
    <template #footer>
      <UButton
        type="submit"
        form="connect"
        :loading="busy === 'probe'"
        :color="report?.usable ? 'neutral' : 'primary'"
        :variant="report?.usable ? 'outline' : 'solid'"
        >Test</UButton
      >
      <UButton v-if="report?.usable" data-save color="primary" variant="solid" :loading="busy === 'save'" @click="save">{{
        source ? 'Save' : 'Save and discover'
      }}</UButton>
    </template>
  </USlideover>
</template>
