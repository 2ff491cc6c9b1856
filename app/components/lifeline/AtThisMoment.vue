<script setup lang="ts">
import { NOWHERE } from '~~/core/chain/position'
import { sortMissing } from '~~/core/content/missing'
import type { ErrorRecord } from '~~/core/errors'
import { isWithin } from '~~/core/things/thing'
import { estimateRestore } from '~~/core/plan/state'
import type { Heavy, MomentView, Lifeline, Missing, VesselView } from '~~/server/views'
import type { LifelinePoint } from '~/utils/points'

const { vessel, moment, state, point, unsure, points, bands, heavy, breaks } = defineProps<{
  vessel: VesselView
  moment: number
  /** The point's id, or the moment as an address names it. */
  reference: string
  /** On which side of a change it lies, where it is a position in a log, finer than any time. */
  precise: 'before' | 'after' | null
  state: MomentView | null
  error: ErrorRecord | null
  point: LifelinePoint | undefined
  /** What is not exactly as it was there, or not known; the unknown first. */
  unsure: Missing[]
  points: LifelinePoint[]
  /** Stretches in which every moment of all members can be entered. */
  bands: { from: number; to: number }[]
  /** Large changes in view; null while the window is too wide for them. */
  heavy: Heavy[] | null
  breaks: Lifeline['breaks']
}>()
defineEmits<{ enter: [at: number]; beside: [ref: string, at: number, side: 'before' | 'after'] }>()

// Data that stayed in a snapshot at its source can be read into the store while that is still there.
const isLeft = computed(() => sortMissing(point?.missing ?? []).atSource.length > 0)
const fetching = ref(false)
const fetchError = shallowRef<ErrorRecord | null>(null)
async function fetchLeft() {
  fetching.value = true
  fetchError.value = null
  try {
    const { id } = await post<{ id: string }>(`/api/points/${point!.id}/fetch`, {})
    await navigateTo(`/runs/${id}`)
  } catch (thrown) {
    fetchError.value = errorOf(thrown)
  } finally {
    fetching.value = false
  }
}

const first = computed(() => points[0])
const earlier = (at: string) => moment - Date.parse(at)
const hole = computed(() =>
  breaks.find(({ from, to, tables }) => tables.length === 0 && Date.parse(from) < moment && (to === null || moment < Date.parse(to))),
)
/** The links of a chain, drawn from left to right: marks, then all of the log as one. */
const linksOf = ({ marks, log }: MomentView['members'][number]) => [
  ...marks.map((mark) => ({
    id: mark.id,
    kind: mark.kind,
    bytes: mark.bytes,
    title: `${ARTIFACT_WORD[mark.kind]}, ${fullOf(mark.at)}, ${countInWords(mark.rows)} rows`,
  })),
  ...(log
    ? [
        {
          id: 'log',
          kind: 'log' as const,
          bytes: log.bytes,
          title: `${plural(log.segments, 'segment')} of log, ${countInWords(log.rows)} changes`,
        },
      ]
    : []),
]
const rowsOf = ({ marks }: MomentView['members'][number]) => marks.find(({ kind }) => kind === 'full' || kind === 'synthetic')?.rows ?? 0
/** Its members stand at one moment, whatever milliseconds their clocks showed. */
const isTied = computed(() => point?.consistency === 'held together' && (state?.members.length ?? 0) > 1)
/** The position in the log, where only one member has one. */
const logAt = computed(() => {
  const positions = (state?.members ?? []).map(({ position }) => position).filter((position) => position !== NOWHERE)
  return positions.length === 1 ? positions[0] : null
})
const UNSURE_SHOWN = 5
const unsureOf = ({ member }: MomentView['members'][number]) => unsure.filter(({ path }) => isWithin(path, member))
/** Whether something of a member's part of the point can't be read in the store any more. */
const isDamaged = ({ member }: MomentView['members'][number]) =>
  (point?.damage ?? []).some(({ path }) => isWithin(path, member) || !path.includes('/'))
const exactly = (member: MomentView['members'][number]) => {
  const count = unsureOf(member).length
  return count === 0 ? 'exact' : `exact but for ${plural(count, 'thing')}`
}
function toneOf(member: MomentView['members'][number]): string {
  if (isDamaged(member)) return 'error font-medium'
  if (!member.exact && !isTied.value) return 'warning font-medium'
  return unsureOf(member).some(({ note }) => !note) ? 'error font-medium' : 'soft'
}
/** Without the source and the database, where it is in one. */
const inLog = computed(() => state?.exact && !point)
</script>

<template>
  <section
    class="sheet grid gap-9 px-6 pt-3.5 pb-6 lg:grid-cols-[minmax(0,1.6fr)_minmax(0,1fr)] xl:grid-cols-[minmax(0,1fr)_minmax(0,500px)]"
    aria-live="polite"
    aria-label="At this moment"
  >
    <div>
      <h2 class="flex items-baseline gap-3">
        <span class="text-[15px] font-semibold">{{ precise ? `Just ${precise} this change` : 'At this moment' }}</span>
        <span v-if="logAt" class="mono soft text-[12px]">log {{ logAt }}</span>
        <span class="soft s12 ml-auto w-[234px] xl:w-[270px]">Chain that would be read, from {{ vessel.definition.store }}</span>
      </h2>
      <div v-if="error || state?.members.length === 0" class="mt-3 border-t border-[var(--line)] py-4 text-[13px]">
        Nothing can be restored from here<template v-if="first && moment < first.at.getTime()"
          >: the first point is of {{ whenOf(first.at) }}</template
        >.
        <button v-if="first && moment < first.at.getTime()" class="lnk" @click="$emit('enter', first.at.getTime())">
          Go to the first point
        </button>
      </div>
      <USkeleton v-else-if="!state" class="mt-3 h-14" />
      <table v-else class="mt-2 w-full text-[13px]">
        <tbody>
          <tr v-for="member in state.members" :key="member.member" class="h-[54px] border-t border-[var(--line)] align-top">
            <td class="mono max-w-[180px] truncate pt-2 pr-4 text-[12.5px] font-medium" :title="member.member">{{ member.member }}</td>
            <td class="soft pt-2 pr-4">
              {{ countInWords(rowsOf(member)) }} {{ member.position === NOWHERE ? 'objects and files' : 'rows' }}
            </td>
            <td class="pt-2 pr-4 whitespace-nowrap">
              <div :title="fullOf(member.at)">{{ dayOf(member.at) }} {{ secondsOf(member.at) }}</div>
              <div class="s12" :class="toneOf(member)">
                {{
                  isDamaged(member)
                    ? 'not whole'
                    : isTied
                      ? 'in one hold'
                      : member.exact
                        ? exactly(member)
                        : `${durationInWords(earlier(member.at))} earlier`
                }}
              </div>
            </td>
            <td class="w-[234px] pt-px xl:w-[270px]">
              <svg width="234" height="42" class="block overflow-visible" role="img" aria-label="Chain">
                <line
                  v-if="linksOf(member).length > 1"
                  x1="8"
                  :x2="8 + (linksOf(member).length - 1) * 78"
                  y1="15"
                  y2="15"
                  stroke="var(--ink)"
                  stroke-width="1.2"
                />
                <g v-for="(link, i) in linksOf(member)" :key="link.id">
                  <title>{{ link.title }}</title>
                  <LifelineMark :x="8 + i * 78" :y="15" :kind="link.kind" ground="var(--sheet)" />
                  <text :x="1 + i * 78" y="37" font-size="11.5" fill="var(--ink)">
                    {{ bytesInWords(link.bytes) }} {{ link.kind === 'log' ? 'log' : '' }}
                  </text>
                </g>
              </svg>
            </td>
          </tr>
        </tbody>
      </table>
      <p v-if="hole && state && !state.exact" class="error mt-1 border-t border-[var(--line)] pt-2 text-[13px]">{{ hole.reason }}</p>
      <div v-if="state && state.members.length > 0" class="mt-1 flex flex-wrap items-center gap-2.5 border-t border-[var(--line)] pt-3">
        <UButton color="primary" variant="solid" data-restore :to="{ path: `/vessels/${vessel.slug}/restore`, query: { point: reference } }"
          >Restore from {{ precise ? `just ${precise}` : secondsOf(state.at) }}…</UButton
        >
        <UButton :to="{ path: `/vessels/${vessel.slug}/contents`, query: { point: reference } }">Open contents</UButton>
        <UButton v-if="point" :to="`/runs/${point.run}`">Open the run</UButton>
        <span class="ml-auto w-[234px] text-[13px] xl:w-[270px] leading-[18px]"
          ><b class="text-[15px] font-semibold">{{ bytesInWords(state.bytes) }}</b> to read, back in about
          <b class="text-[15px] font-semibold">{{ durationInWords(estimateRestore(state.bytes, vessel.restoreRate)) }}</b></span
        >
      </div>
      <LargestChanges
        v-if="heavy"
        class="mt-6"
        :vessel="vessel"
        :heavy="heavy"
        @beside="(ref, at, side) => $emit('beside', ref, at, side)"
      />
      <PointList v-else class="mt-6" :points="points" :entered="point?.id" @enter="$emit('enter', $event)" />
    </div>
    <div class="text-[13px]">
      <LifelineLoupe :moment="moment" :marks="points.map((candidate) => candidate.at.getTime())" :bands="bands" />
      <p v-if="inLog" class="mt-2 leading-[19px]">
        <b class="font-semibold">In the log.</b> Every transaction that was committed
        {{ precise === 'before' ? 'before this one' : precise ? 'up to this one' : 'until then' }} is in it, and none that came
        later<template v-if="unsure.length > 0">, but for {{ plural(unsure.length, 'thing') }}:</template><template v-else>.</template>
      </p>
      <ul v-if="inLog && unsure.length > 0" class="rule mt-1 border-t border-[var(--line)]" data-unsure>
        <li v-for="item in unsure.slice(0, UNSURE_SHOWN)" :key="item.path + item.reason" class="py-1 leading-[18px]">
          <span class="mono text-[12px] font-medium">{{ shortOf(item.path) }}</span>{{ ' '
          }}<b v-if="!item.note" class="error font-semibold">Not known here. </b
          ><span :class="item.note ? 'soft' : 'error'">{{ item.reason }}</span>
        </li>
        <li v-if="unsure.length > UNSURE_SHOWN" class="soft py-1">
          And {{ unsure.length - UNSURE_SHOWN }} more, which <b class="font-semibold">Open contents</b> lists.
        </li>
      </ul>
      <template v-if="point">
        <p class="mt-2 flex items-center gap-2">
          <svg width="12" height="20" viewBox="0 0 12 20" aria-hidden="true">
            <circle cx="6" cy="5" r="2.6" fill="var(--ink)" />
            <circle cx="6" cy="14" r="2.6" fill="var(--ink)" />
          </svg>
          <ExplainedWord :why="CONSISTENCY[point.consistency].why"
            ><b class="font-semibold">{{ capital(CONSISTENCY[point.consistency].word) }}.</b></ExplainedWord
          >
          <span v-if="point.name" class="cut">“{{ point.name }}”</span>
          <span class="soft ml-auto shrink-0">definition version {{ point.version }}</span>
        </p>
        <ul class="rule mt-1 border-t border-[var(--line)]">
          <li v-for="member in point.reached?.members ?? []" :key="member.member" class="py-1 leading-[18px]" data-reached>
            <span class="mono text-[12px] font-medium">{{ member.member }}</span>{{ ' '
            }}<ExplainedWord :why="CONSISTENCY[member.consistency].why"
              ><span :class="member.consistency === 'as found' || member.consistency === 'in use' ? 'warning' : ''"
                >{{ CONSISTENCY[member.consistency].word }}.</span
              ></ExplainedWord
            >{{ ' ' }}<span class="soft">{{ member.why }}</span>
          </li>
          <li class="flex h-7 items-center gap-2">
            <span v-if="point.damage.length > 0" class="error font-semibold">Can’t be restored whole</span
            ><span v-else-if="point.verifiedAt" class="border-b-2 border-[var(--gold-line)]">Verified in the store</span
            ><span v-else class="soft">Not verified in the store yet</span>
            <span class="soft ml-auto">{{ point.verifiedAt ? whenOf(point.verifiedAt) : '' }}</span>
          </li>
          <li v-for="damage in point.damage.slice(0, 3)" :key="damage.path" class="error py-1" data-damage>
            <span class="mono text-[12px] font-medium">{{ damage.path }}</span>{{ ' ' }}{{ damage.reason }}
          </li>
          <li v-if="point.complete" class="flex h-7 items-center">Everything that was to be taken is in it.</li>
          <li v-for="item in point.missing.slice(0, 3)" :key="item.path" class="py-1" :class="item.note ? 'soft' : 'warning'">
            <template v-if="item.onlyAt"
              ><span class="mono text-[12px] font-medium">{{ item.path }}</span> <b class="font-semibold">Only at the source.</b>
              {{ item.reason }}</template
            >
            <template v-else>{{ item.path }} {{ item.note ? 'is only partly in it.' : 'is missing.' }} {{ item.reason }}</template>
          </li>
          <li v-if="isLeft" class="py-2">
            <UButton icon="i-lucide-arrow-down-to-line" :loading="fetching" data-fetch @click="fetchLeft">Read it into the store</UButton>
            <ErrorNote v-if="fetchError" :error="fetchError" class="mt-2" />
          </li>
          <li v-if="point.comment" class="soft py-1">{{ point.comment }}</li>
          <PointStay :key="point.id" :point="point" :kinds="(state?.members ?? []).map(({ marks }) => marks.at(-1)?.kind ?? 'full')" />
        </ul>
      </template>
    </div>
  </section>
</template>
