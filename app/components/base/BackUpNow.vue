<script setup lang="ts">
import { NewRun } from '~~/core/asked'
import type { ErrorRecord } from '~~/core/errors'
import type { WayKind, WayOfBackup } from '~~/server/views'

const WAYS: readonly { value: WayKind; word: string; about: string }[] = [
  { value: 'full', word: 'Full', about: 'Everything is read from the source.' },
  { value: 'differential', word: 'Differential', about: 'What has changed since the last full.' },
  { value: 'incremental', word: 'Incremental', about: 'What has changed since the last point, computed from the log.' },
  { value: 'synthetic', word: 'Synthetic full', about: 'Computed in the store from what is there; the source is not read.' },
  { value: 'audit', word: 'Audit of the log', about: 'No point is made: followed tables are compared with what the log leads to.' },
]
const { backUp: asked } = storeToRefs(useScreen())
const form = reactive({ name: '', comment: '', what: 'full' as WayKind, keep: 'said' })
const KEEP = [
  { label: 'as the definition says', value: 'said' },
  { label: 'until somebody deletes it', value: 'ever' },
  ...[7, 30, 90, 365].map((days) => ({ label: `for ${days} days`, value: String(days) })),
]
const keepDays = () => (form.keep === 'said' ? {} : { keepDays: form.keep === 'ever' ? null : Number(form.keep) })
const request = computed(() => ({
  ...(form.what === 'audit'
    ? { kind: 'audit' as const }
    : { kind: 'backup' as const, what: form.what, name: form.name || null, ...keepDays() }),
  comment: form.comment || null,
}))
const error = shallowRef<ErrorRecord | null>(null)
const sending = ref(false)
const vessels = computed(() => asked.value ?? [])
const words = computed(() => (vessels.value.length === 1 ? vessels.value[0]!.name : plural(vessels.value.length, 'vessel')))
const open = computed({ get: () => asked.value !== null, set: (value) => !value && (asked.value = null) })
/** What each vessel could do now, asked when the dialog opens. */
const ready = shallowRef<{ name: string; ways: WayOfBackup[] }[]>([])
async function askWays() {
  ready.value = []
  const of = async ({ slug, name }: { slug: string; name: string }) => ({
    name,
    ways: await $fetch<WayOfBackup[]>(`/api/vessels/${slug}/ways`),
  })
  ready.value = await Promise.all(vessels.value.map(of)).catch((thrown: unknown) => {
    error.value = errorOf(thrown)
    return []
  })
}
const choices = computed(() =>
  WAYS.map(({ value, word, about }) => {
    const ways = ready.value.flatMap(({ name, ways }) => ways.filter(({ way }) => way === value).map((way) => ({ name, ...way })))
    const stopped = ways.filter(({ obstacle }) => obstacle !== null)
    const others = stopped.length > 1 ? ` And ${plural(stopped.length - 1, 'more vessel')} can’t.` : ''
    const notes = stopped.length > 0 ? [] : [...new Set(ways.flatMap((way) => way.notes))]
    return { value, word, about: [about, ...notes].join(' '), obstacle: stopped[0] ? `${stopped[0].obstacle}${others}` : null }
  }),
)
const stopped = computed(() => choices.value.find(({ value }) => value === form.what)!.obstacle !== null)
watch(
  open,
  (isOpen) => {
    error.value = null
    if (!isOpen) return
    Object.assign(form, { name: '', comment: '', what: 'full', keep: 'said' })
    void askWays()
  },
  { immediate: true },
)

/** One after the other; what was begun is not asked for again where a later one can't be. */
async function start() {
  sending.value = true
  error.value = null
  const begun: string[] = []
  try {
    for (const { slug } of vessels.value) begun.push((await post<{ id: string }>(`/api/vessels/${slug}/runs`, request.value)).id)
    asked.value = null
    await navigateTo(begun.length === 1 ? `/runs/${begun[0]}` : '/runs?states=running,waiting')
  } catch (thrown) {
    error.value = errorOf(thrown)
    asked.value = vessels.value.slice(begun.length)
  } finally {
    sending.value = false
  }
}
</script>

<template>
  <UModal
    v-model:open="open"
    :close="{ variant: 'ghost' }"
    :title="form.what === 'audit' ? `Audit the log of ${words}` : `Back up ${words} now`"
    :description="
      ready.length > 0
        ? 'Which ways could begin now is said with each.'
        : error
          ? 'Which ways could begin now is not known.'
          : 'Asking which ways could begin now…'
    "
  >
    <template #body>
      <UForm id="back-up" :schema="NewRun" :state="request" class="grid gap-4" @submit="start">
        <p v-if="vessels.length > 1" class="text-[13px]">{{ listInWords(vessels.map(({ name }) => name)) }}</p>
        <ChoiceList v-model="form.what" :choices="choices" label="What is made" />
        <UFormField v-if="form.what !== 'audit'" label="Name" name="name" hint="optional"
          ><UInput v-model="form.name" name="name" class="w-full" placeholder="before the fare change" :maxlength="120" autofocus
        /></UFormField>
        <UFormField v-if="form.what !== 'audit'" label="The point stays"
          ><USelect v-model="form.keep" :items="KEEP" value-key="value" class="w-72" aria-label="How long the point stays"
        /></UFormField>
        <UFormField label="Comment" name="comment" hint="optional"
          ><UTextarea v-model="form.comment" name="comment" class="w-full" :rows="2" :maxlength="2000"
        /></UFormField>
        <ErrorNote v-if="error" :error="error" />
      </UForm>
    </template>
    <template #footer>
      <UButton type="submit" form="back-up" color="primary" variant="solid" :loading="sending" :disabled="stopped">{{
        form.what === 'audit' ? 'Audit the log' : 'Back up now'
      }}</UButton>
      <UButton @click="open = false">Cancel</UButton>
    </template>
  </UModal>
</template>
