<script setup lang="ts">
import type { SourceDeletionView, SourceView } from '~~/server/views'

// A source is forgotten; what was taken from it stays.
const { source } = defineProps<{ source: SourceView }>()
defineEmits<{ close: []; done: [] }>()
const refuses = ({ takenBy }: SourceDeletionView) =>
  takenBy.length > 0
    ? `${listInWords(takenBy)} ${takenBy.length === 1 ? 'takes' : 'take'} something from it by name. Take it out of the rules first, or delete the vessel.`
    : null
</script>

<template>
  <DeleteIt
    :title="`Delete the source ${source.name}`"
    :address="`/api/sources/${source.id}/deletion`"
    :refuses="refuses"
    yes="Delete this source"
    placeholder="the server was taken down"
    @close="$emit('close')"
    @done="$emit('done')"
  >
    <template #default="{ going }">
      <div>
        <dt>Is forgotten</dt>
        <dd>
          how it is reached, and {{ plural(going.things, 'thing') }} that {{ going.things === 1 ? 'was' : 'were' }} found there; the server
          itself is not touched
        </dd>
      </div>
      <div>
        <dt>Stays</dt>
        <dd>
          {{
            going.points === 0
              ? 'no point holds anything of it'
              : `${plural(going.points, 'point')} that hold something of it, to be restored into another source`
          }}
        </dd>
      </div>
    </template>
  </DeleteIt>
</template>
