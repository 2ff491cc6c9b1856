<script setup lang="ts">
import { placeInWords } from '~~/core/things/thing'
import type { VesselDepartureView, VesselView } from '~~/server/views'

// A vessel is deleted, and its points stay for their terms.
const { vessel } = defineProps<{ vessel: VesselView }>()
defineEmits<{ close: [] }>()
const refuses = (_: VesselDepartureView) =>
  vessel.running
    ? `${capital(withArticle(RUN_KIND[vessel.running.kind as keyof typeof RUN_KIND]))} of it is running. Wait until that is over, or cancel it.`
    : null
</script>

<template>
  <DeleteIt
    :title="`Delete ${vessel.name}`"
    :address="`/api/vessels/${vessel.slug}/deletion`"
    :refuses="refuses"
    yes="Delete this vessel"
    placeholder="the service was switched off for good"
    @close="$emit('close')"
    @done="navigateTo('/vessels')"
  >
    <template #default="{ going }">
      <div>
        <dt>Ends</dt>
        <dd>
          {{ going.lines > 0 ? `its plan of ${plural(going.lines, 'line')}` : 'what is made of it by hand'
          }}{{ going.logs.length > 0 ? `; the log of ${listInWords(going.logs.map(placeInWords))} is followed no more` : '' }}
        </dd>
      </div>
      <div>
        <dt>Stays for now</dt>
        <dd v-if="going.points === 0">nothing: it has no point</dd>
        <dd v-else>
          <b class="font-semibold">{{ plural(going.points, 'point') }}</b>, to be restored from. {{ staysInWords(going) }}
        </dd>
      </div>
    </template>
  </DeleteIt>
</template>
