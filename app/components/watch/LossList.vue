<script setup lang="ts">
import type { ErrorRecord } from '~~/core/errors'
import type { Loss, Returned } from '~~/server/views'

// What was lost, each told once, with the best way back first; and what came back within the last day.
const { losses, returned = [] } = defineProps<{ losses: Loss[]; returned?: Returned[] }>()
const emit = defineEmits<{ changed: [] }>()

const WENT_SHOWN = 4
const open = ref(new Set<string>())
const failure = shallowRef<ErrorRecord | null>(null)
const sending = ref<string | null>(null)

const whoOf = ({ by }: Loss) => by && (by.application ? `${by.user} (${by.application})` : by.user)
function toggle(key: string) {
  const now = new Set(open.value)
  if (!now.delete(key)) now.add(key)
  open.value = now
}
async function meant(loss: Loss) {
  sending.value = loss.key
  failure.value = null
  try {
    await post('/api/losses/meant', { key: loss.key })
    emit('changed')
  } catch (thrown) {
    failure.value = errorOf(thrown)
  } finally {
    sending.value = null
  }
}
</script>

<template>
  <section v-if="losses.length > 0 || returned.length > 0" id="losses" aria-label="Losses">
    <h2 class="border-b border-[var(--line)] pb-[7px] font-semibold" :class="losses.length > 0 ? 'error' : ''">
      {{ losses.length > 0 ? 'Lost' : 'Restored' }}
    </h2>
    <ErrorNote v-if="failure" :error="failure" class="mt-2" />
    <ul class="rule text-[13px] max-[1179px]:grid max-[1179px]:grid-cols-2 max-[1179px]:gap-x-8" aria-live="polite">
      <li v-for="(loss, i) in losses" :key="loss.key" class="py-2.5" data-loss>
        <p class="font-medium break-words" :class="loss.level === 'error' ? 'error' : ''">{{ loss.what }}</p>
        <p class="soft s12 mt-0.5" :title="fullOf(loss.at)">
          {{ whenLost(loss) }}<template v-if="loss.times > 1"> and {{ plural(loss.times - 1, 'time') }} before</template
          ><template v-if="whoOf(loss)">, by {{ whoOf(loss) }}</template>
        </p>
        <p v-if="loss.statement" class="mono s12 mt-1 cut" :title="loss.statement">{{ loss.statement }}</p>
        <p v-if="loss.went.length > 0" class="soft s12 mt-1 break-words">
          With it went
          <template v-for="(part, n) in loss.went.slice(0, WENT_SHOWN)" :key="part.name"
            ><template v-if="n > 0">, </template>the {{ part.kind }} <span class="mono">{{ part.name }}</span></template
          ><template v-if="loss.went.length > WENT_SHOWN"> and {{ loss.went.length - WENT_SHOWN }} more</template>.
        </p>
        <p v-if="loss.ways.length === 0" class="warning mt-1.5">No point and no log holds it.</p>
        <template v-else>
          <div class="mt-2" data-way>
            <UButton :to="loss.ways[0]!.to" color="primary" :variant="i === 0 ? 'solid' : 'outline'" size="sm">{{
              wayInWords(loss.ways[0]!)
            }}</UButton>
            <p class="soft s12 mt-1">{{ withoutAsSentence(loss.ways[0]!) }}</p>
          </div>
        </template>
        <ul v-if="open.has(loss.key)" class="mt-1.5 grid gap-1">
          <li v-for="way in loss.ways.slice(1)" :key="way.to" data-way>
            <NuxtLink :to="way.to" class="lnk">{{ wayInWords(way) }}</NuxtLink>
            <span class="soft s12 ml-1.5">{{ withoutInWords(way) }}</span>
          </li>
        </ul>
        <p class="mt-1.5 flex gap-4">
          <button v-if="loss.ways.length > 1" type="button" class="lnk" :aria-expanded="open.has(loss.key)" @click="toggle(loss.key)">
            {{ open.has(loss.key) ? 'Fewer ways' : `${plural(loss.ways.length - 1, 'other way', 'other ways')}` }}
          </button>
          <button type="button" class="lnk ml-auto" :disabled="sending === loss.key" @click="meant(loss)">It was meant</button>
        </p>
      </li>
      <li v-for="loss in returned" :key="loss.run" class="flex items-baseline justify-between gap-3 py-2" data-returned>
        <span
          >{{ capital(loss.what) }} <span class="soft s12">{{ whenOf(loss.at) }}</span></span
        >
        <NuxtLink :to="`/runs/${loss.run}`" class="lnk shrink-0">Receipt</NuxtLink>
      </li>
    </ul>
  </section>
</template>
