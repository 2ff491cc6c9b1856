<script setup lang="ts">
import type { ErrorRecord } from '~~/core/errors'
import { lastName } from '~~/core/things/thing'
import type { FileSighting, FolderLine } from '~~/server/views'

// A volume as folders; one file of it can be looked at, or taken out, and what is ticked as one archive.
const { point, path, slug } = defineProps<{ point: string; path: string; slug: string }>()
const route = useRoute()
const setQuery = useQuery()
const folder = computed({
  get: () => String(route.query.folder ?? ''),
  set: (to: string) => void setQuery({ folder: to || undefined }),
})
const base = computed(() => pointUrl(point))
const { data, error } = useLoad<FolderLine[]>(() => `${base.value}/files?${new URLSearchParams({ path, folder: folder.value })}`, {
  tells: true,
})
const steps = computed(() => folder.value.split('/').filter(Boolean))
const below = (name: string) => (folder.value ? `${folder.value}/${name}` : name)
const fileUrl = (name: string, more: Record<string, string> = {}) =>
  `${base.value}/file?${new URLSearchParams({ path, file: below(name), ...more })}`
const ICON: Record<FolderLine['type'], string> = {
  folder: 'i-lucide-folder',
  file: 'i-lucide-file',
  link: 'i-lucide-link',
  'hard-link': 'i-lucide-link',
  pipe: 'i-lucide-shapes',
  device: 'i-lucide-shapes',
}
// A file is looked for by its name through all points; where its content changed, it says so.
const name = ref('')
const sought = ref('')
watchDebounced(name, (text) => (sought.value = text), { debounce: 400 })
const { data: sightings, pending: seeking } = useLoad<FileSighting[]>(() =>
  sought.value.trim().length < 2 ? null : `/api/vessels/${slug}/find-files?${new URLSearchParams({ name: nameOf(sought.value.trim()) })}`,
)
/** Without a wildcard any part of a name will do. */
const nameOf = (text: string) => (text.includes('*') ? text : `*${text}*`)
const isSeeking = computed(() => name.value.trim().length >= 2)
/** Whether its content is another one than in the next older point that holds it. */
const isChanged = (sighting: FileSighting, i: number) => {
  const older = sightings.value!.slice(i + 1).find(({ file, volume }) => file === sighting.file && volume === sighting.volume)
  return older !== undefined && older.digest !== sighting.digest
}
const goTo = ({ point: at, volume, file }: FileSighting) => {
  name.value = ''
  void setQuery({
    point: at,
    at: undefined,
    show: volume,
    folder: file.includes('/') ? file.slice(0, file.lastIndexOf('/')) : undefined,
  })
}
/** Files and folders that are ticked, by their paths; they stay while a person goes from folder to folder. */
const ticked = ref<Set<string>>(new Set())
watch([() => path, () => point], () => (ticked.value = new Set()))
function tick(line: FolderLine) {
  const next = new Set(ticked.value)
  if (!next.delete(below(line.name))) next.add(below(line.name))
  ticked.value = next
}
const fail = useFailure()
async function exportTicked() {
  const choice = await post<{ id: string }>('/api/choices', { of: 'files', files: [...ticked.value] }).catch(fail)
  if (choice) location.assign(`${base.value}/take-cluster?${new URLSearchParams({ path, files: choice.id })}`)
}
/** The most of a file that is shown. */
const SHOWN = 256 * 1024
const PICTURE = /\.(png|jpe?g|gif|webp|svg|avif)$/i
const shown = ref<{ name: string; text: string | null; picture: string | null } | null>(null)
const previewError = shallowRef<ErrorRecord | null>(null)
watch([() => path, () => point, folder], () => {
  shown.value = null
  previewError.value = null
})
const begin = newestOf()
async function show(line: FolderLine) {
  const isNewest = begin()
  previewError.value = null
  const url = fileUrl(line.name, { show: '1' })
  if (PICTURE.test(line.name) && line.size < 20_000_000) return void (shown.value = { name: line.name, text: null, picture: url })
  try {
    const bytes = await bytesAt(url)
    if (!isNewest()) return
    const text = bytes.includes(0) ? null : new TextDecoder().decode(bytes) + (line.size > SHOWN ? '\n…' : '')
    shown.value = { name: line.name, text, picture: null }
  } catch (thrown) {
    if (!isNewest()) return
    shown.value = { name: line.name, text: null, picture: null }
    previewError.value = errorOf(thrown)
  }
}
/** A picture does not say itself why it is not shown. */
async function pictureFailed() {
  const { name: of, picture } = shown.value!
  const told = await bytesAt(picture!).then(() => null, errorOf)
  if (shown.value?.picture !== picture) return
  shown.value = { name: of, text: null, picture: null }
  previewError.value = told
}
</script>

<template>
  <div class="flex min-h-0 flex-1">
    <div class="min-w-0 flex-1 overflow-auto">
      <p class="mono flex min-h-11 flex-wrap items-center gap-x-1.5 px-4 py-1.5 text-[12.5px]">
        <button class="lnk" :disabled="steps.length === 0" @click="folder = ''">/</button>
        <template v-for="(step, i) in steps" :key="i">
          <button class="lnk" @click="folder = steps.slice(0, i + 1).join('/')">{{ step }}</button><span v-if="i < steps.length - 1"
            >/</span
          >
        </template>
        <UButton v-if="ticked.size > 0" size="sm" class="ml-auto font-sans" data-export-ticked @click="exportTicked"
          >Export {{ plural(ticked.size, 'pick') }} as tar</UButton
        >
        <UInput
          v-model="name"
          name="find-file"
          icon="i-lucide-search"
          placeholder="a file in all points"
          size="sm"
          class="w-56 font-sans"
          :class="{ 'ml-auto': ticked.size === 0 }"
          aria-label="Find a file by its name in all points"
        />
      </p>
      <template v-if="isSeeking">
        <p class="soft px-4 pb-2 text-[13px]" aria-live="polite">
          <template v-if="seeking || !sightings">looking through the newest 60 points…</template>
          <template v-else-if="sightings.length === 0">No file of this name is in the newest 60 points.</template>
          <template v-else>{{ plural(sightings.length, 'file') }} of this name in the newest 60 points, newest first</template>
        </p>
        <table v-if="sightings && sightings.length > 0" class="w-full table-fixed text-[13px]" data-sightings>
          <tbody class="rule border-t border-[var(--line)]">
            <tr v-for="(sighting, i) in sightings" :key="sighting.point + sighting.volume + sighting.file" class="h-[30px]" data-sighting>
              <td class="w-44 pl-4">
                <button class="lnk" @click="goTo(sighting)">{{ whenOf(sighting.at) }}</button>
              </td>
              <td class="mono cut pr-3" :title="`${sighting.volume}: ${sighting.file}`">
                {{ sighting.file }} <span class="soft">{{ lastName(sighting.volume) }}</span>
              </td>
              <td class="w-24 pr-4"><span v-if="isChanged(sighting, i)" class="warning">changed</span></td>
              <td class="num w-24 pr-4">{{ bytesInWords(sighting.size) }}</td>
            </tr>
          </tbody>
        </table>
      </template>
      <ErrorNote v-else-if="error" :error="error" class="m-4" />
      <div v-else-if="!data" class="grid gap-2 p-4"><USkeleton v-for="i in 6" :key="i" class="h-5" /></div>
      <p v-else-if="data.length === 0" class="soft px-4 text-[13px]">Nothing is in this folder.</p>
      <table v-else class="w-full table-fixed text-[13px]" data-files>
        <LongList v-slot="{ item: line, row }" as="tbody" :items="data" :key-of="({ name: of }) => of" :row-height="30" :columns="6">
          <tr v-bind="row" class="h-[30px] border-t border-[var(--line)]" data-row>
            <td class="w-10 pl-4">
              <UCheckbox
                :model-value="ticked.has(below(line.name))"
                :aria-label="`Tick ${line.name} for the archive`"
                @update:model-value="tick(line)"
              />
            </td>
            <td class="w-7"><UIcon :name="ICON[line.type]" class="soft size-3.5" /></td>
            <td class="mono cut pr-3">
              <button v-if="line.type === 'folder'" class="hover:underline" @click="folder = below(line.name)">{{ line.name }}</button>
              <button v-else-if="line.type === 'file'" class="hover:underline" @click="show(line)">{{ line.name }}</button>
              <span v-else
                >{{ line.name }}<span class="soft"> → {{ line.target }}</span></span
              >
            </td>
            <td class="num soft w-32 pr-4 text-right">{{ line.type === 'folder' ? plural(line.files, 'file') : '' }}</td>
            <td class="num w-24 pr-4 text-right">
              {{ line.type === 'file' || line.type === 'folder' ? bytesInWords(line.size) : line.type }}
            </td>
            <td class="soft w-40 pr-4">{{ whenOf(new Date(line.mtime)) }}</td>
            <td class="w-20 pr-4 text-right">
              <a v-if="line.type === 'file'" :href="fileUrl(line.name)" class="lnk" download>Export</a>
            </td>
          </tr>
        </LongList>
      </table>
    </div>
    <aside v-if="shown" class="flex w-[44%] min-w-0 flex-col border-l border-[var(--line)]" aria-label="The file">
      <p class="flex h-9 shrink-0 items-center justify-between gap-3 border-b border-[var(--line)] px-4 text-[13px]">
        <span class="mono cut font-semibold">{{ shown.name }}</span>
        <button aria-label="Close" @click="shown = null"><UIcon name="i-lucide-x" class="size-4" /></button>
      </p>
      <ErrorNote v-if="previewError" :error="previewError" class="m-4" />
      <img
        v-else-if="shown.picture"
        :src="shown.picture"
        :alt="shown.name"
        class="m-4 max-h-[80%] max-w-[90%] object-contain"
        @error="pictureFailed"
      />
      <pre v-else-if="shown.text !== null" class="mono min-h-0 flex-1 overflow-auto px-4 py-3 text-[12px] leading-[18px]" data-file-text>{{
        shown.text
      }}</pre>
      <p v-else class="soft p-4 text-[13px]">It is neither text nor a picture. Export it to open it.</p>
    </aside>
  </div>
</template>
