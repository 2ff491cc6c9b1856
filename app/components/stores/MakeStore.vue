<script setup lang="ts">
import { NewStore as Asked } from '~~/core/asked'
import type { ErrorRecord } from '~~/core/errors'
import type { PlaceView } from '~~/server/views'

const open = defineModel<boolean>('open', { required: true })
const emit = defineEmits<{ made: [name: string] }>()
const form = reactive({ name: '', path: '', key: '' })
const asked = computed(() => ({ ...form, key: form.key || undefined }))
const place = shallowRef<PlaceView | null>(null)
const error = shallowRef<ErrorRecord | null>(null)
const key = ref<string | null>(null)
const busy = ref(false)
watch(
  () => form.path,
  () => (place.value = null),
)
watch(open, (isOpen) => isOpen && (Object.assign(form, { name: '', path: '', key: '' }), (key.value = null), (error.value = null)))

async function attempt(work: () => Promise<void>) {
  busy.value = true
  error.value = null
  await work().catch((thrown) => (error.value = errorOf(thrown)))
  busy.value = false
}
const check = () => attempt(async () => void (place.value = await post<PlaceView>('/api/stores/check', { path: form.path })))
const make = () =>
  attempt(async () => {
    key.value = (await post<{ key: string }>('/api/stores', asked.value)).key
    emit('made', form.name.trim())
  })
</script>

<template>
  <UModal
    v-model:open="open"
    :close="{ variant: 'ghost' }"
    title="Make a store"
    description="A folder on local disk. It is made if it is missing, and checked for space and rights."
  >
    <template #body>
      <div v-if="key" class="grid gap-3 text-[13px]">
        <p>
          <b class="font-semibold">{{ form.name }} is made.</b> This is its key. It is kept here, encrypted, and not shown again; without it
          the store can be read by nobody. Keep it apart from the store.
        </p>
        <code class="mono border border-[var(--line)] bg-[var(--wash)] p-2.5 break-all" data-store-key>{{ key }}</code>
      </div>
      <UForm v-else id="make-store" :schema="Asked" :state="asked" class="grid gap-3.5" @submit="place ? make() : check()">
        <UFormField label="Name" name="name"
          ><UInput v-model="form.name" name="store-name" class="w-full" placeholder="dry-dock"
        /></UFormField>
        <UFormField label="Folder" name="path"
          ><UInput v-model="form.path" name="store-path" class="mono w-full" placeholder="/srv/dry-dock"
        /></UFormField>
        <UFormField label="Key" name="key" hint="optional" help="64 hex digits; left empty, one is made."
          ><UInput v-model="form.key" name="store-key" class="mono w-full" autocomplete="off"
        /></UFormField>
        <p v-if="place && !place.existing" class="text-[13px]">
          <UIcon name="i-lucide-check" class="glaze size-3.5" /> It can be written, and has {{ bytesInWords(place.free) }} free of
          {{ bytesInWords(place.total) }}.
        </p>
        <p v-if="place?.existing" class="error text-[13px]">A store lies there already. Choose an empty folder.</p>
        <ErrorNote v-if="error" :error="error" />
      </UForm>
    </template>
    <template #footer>
      <UButton v-if="key" color="primary" variant="solid" @click="open = false">I have saved the key</UButton>
      <UButton v-else type="submit" form="make-store" color="primary" variant="solid" :loading="busy" :disabled="place?.existing">{{
        place ? 'Make the store' : 'Check the folder'
      }}</UButton>
    </template>
  </UModal>
</template>
