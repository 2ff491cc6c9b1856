<script setup lang="ts">
import { estimateRestore } from '~~/core/plan/state'
import type { Instant } from '~~/core/chain/chain'
import type { VesselView } from '~~/server/views'

interface Point {
  id: string
  at: Date
  name: string | null
  comment: string | null
  run: string
  complete: boolean
  consistency: string
  missing: { path: string; reason: string; note?: boolean }[]
  verifiedAt: string | null
  version: number
}

const { vessel, instant, state, point, points } = defineProps<{
  vessel: VesselView
  instant: number
  state: Instant
  point: Point | undefined
  points: Point[]
}>()
defineEmits<{ enter: [at: number] }>()

const bytes = computed(() =>
  state.chains.reduce((sum, chain) => sum + chain.artifacts.reduce((all, artifact) => all + artifact.bytes, 0), 0),
)
const earlier = (at: Date) => instant - at.getTime()
const first = computed(() => points[0])
</script>

<template>
  <section
    class="sheet grid gap-9 px-6 pt-3.5 pb-6 lg:grid-cols-[minmax(0,1fr)_minmax(0,540px)]"
    aria-live="polite"
    aria-label="At this instant"
  >
    <div>
      <h2 class="flex items-baseline gap-3">
        <span class="text-[15px] font-semibold">At this instant</span>
        <span v-if="state.chains[0]" class="mono soft text-[12px]">log {{ state.chains[0].artifacts.at(-1)!.to }}</span>
        <span class="soft s12 ml-auto w-[250px]">Chain that would be read, from {{ vessel.definition.store }}</span>
      </h2>
      <div v-if="state.chains.length === 0" class="mt-3 border-t border-[var(--line)] py-4 text-[13px]">
        Nothing can be brought back from here: the first point is of {{ first ? whenOf(first.at) : 'later' }}.
        <button v-if="first" class="lnk" @click="$emit('enter', first.at.getTime())">Go to it</button>
      </div>
      <table v-else class="mt-2 text-[13px]">
        <tbody>
          <tr v-for="chain in state.chains" :key="chain.member" class="h-[54px] border-t border-[var(--line)] align-top">
            <td class="mono pt-2 text-[12.5px] font-medium">{{ chain.member }}</td>
            <td class="soft pt-2">{{ countInWords(chain.artifacts.at(-1)!.rows) }} rows</td>
            <td class="pt-2">
              <div :title="fullOf(chain.at)">{{ dayOf(chain.at) }} {{ secondsOf(chain.at) }}</div>
              <div class="s12" :class="earlier(chain.at) > 60_000 ? 'ochre font-medium' : 'soft'">
                {{ earlier(chain.at) > 500 ? `${durationInWords(earlier(chain.at))} earlier` : 'exact' }}
              </div>
            </td>
            <td class="w-[250px] pt-px">
              <svg width="250" height="42" class="block overflow-visible">
                <line
                  v-if="chain.artifacts.length > 1"
                  x1="8"
                  :x2="8 + (chain.artifacts.length - 1) * 74"
                  y1="15"
                  y2="15"
                  stroke="var(--ink)"
                  stroke-width="1.2"
                />
                <g v-for="(artifact, i) in chain.artifacts" :key="artifact.id">
                  <LifelineMark :x="8 + i * 74" :y="15" :kind="artifact.kind" ground="var(--sheet)" />
                  <text :x="1 + i * 74" y="37" font-size="11.5" fill="var(--ink)">
                    {{ `${bytesInWords(artifact.bytes)}, ${bytesInWords(artifact.stored)} of it new in the store` }}
                  </text>
                </g>
              </svg>
            </td>
          </tr>
        </tbody>
      </table>
      <div v-if="point" class="mt-1 flex flex-wrap items-center gap-2.5 border-t border-[var(--line)] pt-3">
        <UButton color="primary" variant="solid" :to="`/vessels/${vessel.slug}/bring-back?at=${new Date(instant).toISOString()}`"
          >Bring back from {{ clockOf(point.at) }}…</UButton
        >
        <UButton :to="`/vessels/${vessel.slug}/contents?point=${point.id}`">Open contents</UButton>
        <UButton :to="`/runs/${point.run}`">Its run</UButton>
        <span class="ml-auto w-[250px] text-[13px] leading-[18px]"
          ><b class="text-[15px] font-semibold">{{ bytesInWords(bytes) }}</b> to read, back in about
          <b class="text-[15px] font-semibold">{{ durationInWords(estimateRestore(bytes, vessel.restoreRate)) }}</b></span
        >
      </div>
      <PointList class="mt-6" :points="points" :entered="point?.id" @enter="$emit('enter', $event)" />
    </div>
    <div v-if="point" class="text-[13px]">
      <LifelineLoupe :instant="instant" :marks="points.map((candidate) => candidate.at.getTime())" />
      <p class="mt-2 flex items-center gap-2">
        <svg width="12" height="20" viewBox="0 0 12 20" aria-hidden="true">
          <circle cx="6" cy="5" r="2.6" fill="var(--ink)" />
          <circle cx="6" cy="14" r="2.6" fill="var(--ink)" />
        </svg>
        <UTooltip :text="CONSISTENCY[point.consistency]"
          ><b class="font-semibold">{{ capital(point.consistency) }}.</b></UTooltip
        >
        <span v-if="point.name" class="cut">“{{ point.name }}”</span>
        <span class="soft ml-auto shrink-0">version {{ point.version }}</span>
      </p>
      <ul class="rule mt-1 border-t border-[var(--line)]">
        <li class="flex h-7 items-center gap-2">
          <span v-if="point.verifiedAt" class="border-b-2 border-[var(--gold-line)]">Verified in the store</span
          ><span v-else class="soft">Not verified in the store yet</span>
          <span class="soft ml-auto">{{ point.verifiedAt ? whenOf(point.verifiedAt) : '' }}</span>
        </li>
        <li v-if="point.complete" class="flex h-7 items-center">Everything that was to be taken is in it.</li>
        <li v-for="item in point.missing.slice(0, 3)" :key="item.path" class="py-1" :class="item.note ? 'soft' : 'ochre'">
          {{ item.path }} {{ item.note ? 'is in it in part.' : 'is missing.' }} {{ item.reason }}
        </li>
        <li v-if="point.comment" class="soft py-1">{{ point.comment }}</li>
      </ul>
    </div>
  </section>
</template>
