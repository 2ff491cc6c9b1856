<script setup lang="ts">
import type { DeletionView } from '~~/server/views'
import type { LifelinePoint } from '~/utils/points'

// A point is deleted, with what that takes away shown before.
const { point } = defineProps<{ point: LifelinePoint }>()
defineEmits<{ close: [] }>()
const SHOWN = 4
const othersOf = ({ points }: DeletionView) => points.filter(({ id }) => id !== point.id)
const refuses = ({ points }: DeletionView) =>
  points.some(({ pinned }) => pinned)
    ? `${points.length > 1 ? 'One of them' : 'It'} is pinned. Take the pin back first, if it may go.`
    : null
</script>

<template>
  <DeleteIt
    :title="`Delete the point of ${whenOf(point.at)}`"
    :address="`/api/points/${point.id}/deletion`"
    :refuses="refuses"
    :body="({ points }: DeletionView) => ({ points: points.map(({ id }) => id) })"
    yes="Delete it"
    placeholder="it holds what must not be kept"
    @close="$emit('close')"
  >
    <template #default="{ going }">
      <div>
        <dt>Goes with it</dt>
        <dd v-if="othersOf(going).length === 0">no other point builds on it</dd>
        <dd v-else>
          <b class="font-semibold">{{ plural(othersOf(going).length, 'point') }}</b> that build{{ othersOf(going).length === 1 ? 's' : '' }}
          on it:
          {{
            someInWords(
              othersOf(going).map(({ at }) => whenOf(at)),
              SHOWN,
            )
          }}
        </dd>
      </div>
      <LostAndFreed :lost="going.lost" :stored="going.stored" />
    </template>
    <template #more="{ going }">
      <p v-if="going.isNewest" class="warning text-[13px] font-medium">It is the newest point of its vessel.</p>
    </template>
  </DeleteIt>
</template>
