<script setup lang="ts">
import type { StoreDeletionView, StoreView } from '~~/server/views'

// What is done to a store as such: it gets another name, or goes with all that lies in it.
const { store } = defineProps<{ store: StoreView }>()
const emit = defineEmits<{ changed: [] }>()
const renaming = ref(false)
const deleting = ref(false)
const erases = ref(true)
const pointsOf = ({ vessels }: StoreDeletionView) => vessels.reduce((sum, { points }) => sum + points, 0)
const refuses = ({ keptBy, vessels }: StoreDeletionView) => {
  if (keptBy.length > 0)
    return `${listInWords(keptBy)} ${keptBy.length === 1 ? 'keeps its' : 'keep their'} points there. Choose another store in the definition first.`
  return vessels.some(({ pinned }) => pinned > 0) ? 'Points that lie in it are pinned. Take the pins back first, if they may go.' : null
}
const alsoOf = ({ segments, kept }: StoreDeletionView) =>
  listInWords([
    ...(segments > 0 ? [`${plural(segments, 'segment')} of log`] : []),
    ...(kept > 0 ? [`${plural(kept, 'state')} that ${kept === 1 ? 'was' : 'were'} kept before a restore`] : []),
  ])
</script>

<template>
  <span>
    <button class="lnk soft" data-rename @click="renaming = true">Rename…</button>
    <button class="lnk soft ml-3" data-delete-store @click="deleting = true">Delete…</button>
    <RenameIt
      v-model:open="renaming"
      :name="store.name"
      :address="`/api/stores/${store.id}/name`"
      description="In the definitions that name it, too. Its files stay where they lie."
      @renamed="emit('changed')"
    />
    <DeleteIt
      v-if="deleting"
      :title="`Delete the store ${store.name}`"
      :address="`/api/stores/${store.id}/deletion`"
      :refuses="refuses"
      :body="(going: StoreDeletionView) => ({ points: pointsOf(going), erase: erases })"
      yes="Delete this store"
      placeholder="its disk is taken out"
      @close="deleting = false"
      @done="emit('changed')"
    >
      <template #default="{ going }">
        <div>
          <dt>Goes with it</dt>
          <dd v-if="going.vessels.length === 0">no point</dd>
          <dd v-else>
            <span v-for="vessel in going.vessels" :key="vessel.slug" class="block"
              ><b class="font-semibold">{{ plural(vessel.points, 'point') }}</b> of {{ vessel.name
              }}<template v-if="vessel.lost.length > 0">, and {{ momentsInWords(vessel.lost) }}</template></span
            >
          </dd>
        </div>
        <div v-if="going.kept + going.segments > 0">
          <dt>And</dt>
          <dd>
            {{ alsoOf(going) }}
          </dd>
        </div>
        <div>
          <dt>Its key</dt>
          <dd>is forgotten: without it, nothing that is left of its files can be read</dd>
        </div>
      </template>
      <template #more="{ going }">
        <UCheckbox v-model="erases" :label="`Erase its ${bytesInWords(going.bytes)} of files in ${going.path} as well`" />
      </template>
    </DeleteIt>
  </span>
</template>
