<script setup lang="ts">
import { namesOf } from '~~/core/things/thing'
import type { ReceiptLine, RunDetail } from '~~/server/views'

const { run } = defineProps<{ run: RunDetail }>()
const rehearsal = computed(() => run.kind === 'rehearsal')
const TALLY = [
  ['made', 'made'],
  ['replaced', 'replaced'],
  ['renamed', 'renamed'],
  ['merged', 'added to'],
  ['dropped', 'gone again'],
  ['same', 'there already, the same'],
  ['left', 'left'],
  ['failed', 'failed'],
] as const
const tally = computed(() => TALLY.map(([key, word]) => ({ key, word, count: Number(run.outcome?.[key] ?? 0) })))
const isSame = (line: ReceiptLine) => line.outcome === 'left' && line.equal === true
/** What is not as it should be stands above, what was there already below. */
const rankOf = (line: ReceiptLine) => {
  if (line.outcome === 'failed' || (line.equal === false && line.outcome !== 'left')) return 0
  if (line.outcome === 'left') return isSame(line) ? 3 : 1
  if (line.outcome === 'noted') return 3
  return 2
}
const sorted = computed(() => [...run.receipt].sort((a, b) => rankOf(a) - rankOf(b)))
const isOfCluster = ({ of }: ReceiptLine) => of !== 'database'
const nameOf = (line: ReceiptLine) => {
  const names = namesOf(line.path)
  if (!isOfCluster(line)) return names.slice(2).join('.')
  return names.length === 2 ? `namespace ${names[1]}` : names.slice(-2).join(' ')
}
function outcomeOf(line: ReceiptLine): string {
  if (isSame(line)) return 'there, same'
  if (line.outcome === 'dropped') return 'gone again'
  if (line.outcome === 'compared') return line.equal ? 'equal' : 'not equal'
  if (line.outcome === 'noted') return 'note'
  if (line.outcome === 'merged') return isOfCluster(line) ? 'merged' : 'rows added'
  if (line.of === 'check') return line.equal ? 'passed' : 'failed'
  return line.outcome
}
const isElsewhere = (line: ReceiptLine) => line.of === 'cluster' && line.target !== line.path
/** Where it went, and under which name where that is another one. */
function placeOfLine({ path, target }: ReceiptLine): string {
  const [before, now] = [namesOf(path), namesOf(target)]
  const renamed = before.length > 2 && before.at(-1) !== now.at(-1) ? ` as ${now.at(-1)}` : ''
  return `${now.slice(0, 2).join(' / ')}${renamed}`
}
const WHAT = { object: 'Every field as then', volume: 'Every file equal' } as const
const targetOf = (line: ReceiptLine) => line.target.replaceAll(/"([a-z_][a-z0-9_$]*)"/g, '$1').replace(/^""\./, '')
const print = () => window.print()
function save() {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(
    new Blob(
      [
        JSON.stringify(
          { run: run.id, vessel: run.vessel, at: run.finishedAt, reason: run.comment, outcome: run.outcome, receipt: run.receipt },
          null,
          2,
        ),
      ],
      { type: 'application/json' },
    ),
  )
  link.download = `receipt-${run.slug}-${run.id.slice(0, 8)}.json`
  link.click()
  URL.revokeObjectURL(link.href)
}
</script>

<template>
  <section aria-label="Receipt">
    <div class="flex items-baseline gap-6 border-b border-[var(--line)] pb-2">
      <h2 class="font-semibold">{{ rehearsal ? 'What would happen' : 'Receipt' }}</h2>
      <span
        v-for="{ key, word, count } in tally.filter((part) => part.count > 0)"
        :key="key"
        class="text-[13px]"
        data-tally
        :class="key === 'failed' ? 'error' : key === 'left' ? 'warning' : ''"
        ><b class="font-semibold">{{ count }}</b> {{ word }}</span
      >
      <span class="ml-auto flex gap-4 text-[13px]">
        <NuxtLink v-for="point in run.kept" :key="point.id" :to="`/vessels/${run.slug}/restore?point=${point.id}`" class="lnk"
          >Look at what was overwritten…</NuxtLink
        >
        <button class="lnk" @click="print">Print the receipt</button>
        <button class="lnk" @click="save">Keep as a file</button>
      </span>
    </div>
    <table class="table-fixed text-[13px]">
      <colgroup>
        <col class="w-[26%]" />
        <col class="w-[100px]" />
        <col class="w-[96px]" />
        <col class="w-[38%]" />
        <col />
      </colgroup>
      <thead>
        <tr class="h-[28px]">
          <th>Thing</th>
          <th>Outcome</th>
          <th class="num pr-5">{{ run.receipt.every(isOfCluster) ? 'Files' : 'Rows' }}</th>
          <th>Fingerprint then, and now</th>
          <th>Structure</th>
        </tr>
      </thead>
      <LongList
        v-slot="{ item: line, row }"
        :items="sorted"
        :key-of="({ path, target }) => `${path} ${target}`"
        :row-height="48"
        as="tbody"
        :columns="5"
      >
        <tr v-bind="row" data-receipt class="border-t border-[var(--line)] align-top" :class="{ soft: isSame(line) }">
          <td class="mono py-1.5 pr-4 break-words">
            {{ nameOf(line) }}
            <div v-if="line.outcome === 'renamed' || isElsewhere(line)" class="soft">
              {{ isElsewhere(line) ? placeOfLine(line) : `as ${targetOf(line)}` }}
            </div>
          </td>
          <td class="py-1.5" :class="line.outcome === 'failed' ? 'error' : line.outcome === 'left' && !isSame(line) ? 'warning' : ''">
            {{ outcomeOf(line) }}
          </td>
          <td class="num py-1.5 pr-5">{{ line.rows === null ? '' : countInWords(line.rows) }}</td>
          <td v-if="isOfCluster(line) && !line.fingerprintThen" colspan="2" class="py-1.5 break-words">
            <span v-if="line.structureThen && line.equal" class="border-b-2 border-[var(--gold-line)]">{{ WHAT.object }}</span>
            <pre v-else-if="line.reason" class="font-sans whitespace-pre-wrap" :class="{ error: line.equal === false }">{{
              line.reason
            }}</pre>
            <template v-else-if="line.structureThen" />
            <template v-else>{{ rehearsal ? 'Would be made.' : 'Made.' }}</template>
            <div v-for="part in line.leftParts" :key="part.what" class="warning">
              <span class="mono">{{ part.what }}</span>{{ ' ' }}{{ part.why }}
            </div>
          </td>
          <template v-else-if="line.fingerprintThen">
            <td class="mono py-1.5 text-[12px]">
              <div>{{ line.fingerprintThen }}</div>
              <div v-if="line.fingerprintNow" :class="line.fingerprintNow === line.fingerprintThen ? '' : 'error'">
                {{ line.fingerprintNow }}
              </div>
            </td>
            <td class="py-1.5">
              <template v-if="rehearsal">Every {{ isOfCluster(line) ? 'file' : 'row' }} was read from the store, and is whole.</template>
              <template v-else-if="isOfCluster(line)"
                ><span v-if="line.equal" class="border-b-2 border-[var(--gold-line)]">{{ WHAT.volume }}</span
                ><span v-else class="error">Not every file is equal</span></template
              >
              <template v-else>
                <span v-if="line.fingerprintNow === line.fingerprintThen" class="border-b-2 border-[var(--gold-line)]">Rows equal</span
                ><span v-else class="error">Rows are not equal</span><template v-if="line.structureThen === null" /><template
                  v-else-if="line.equal"
                  >, <span class="border-b-2 border-[var(--gold-line)]">structure equal</span></template
                ><span v-else class="warning">, its structure is not</span>
              </template>
              <div v-for="part in line.leftParts" :key="part.what" class="warning">{{ part.what }}: {{ part.why }}</div>
            </td>
          </template>
          <td v-else colspan="2" class="py-1.5 break-words">
            <span v-if="line.equal && !line.reason && line.outcome !== 'left'" class="border-b-2 border-[var(--gold-line)]"
              >Definition equal</span
            >
            <template v-else>{{ line.reason ?? (rehearsal ? 'Would be made.' : 'Made; it has no rows, and was not compared.') }}</template>
            <div v-for="part in line.leftParts" :key="part.what" class="warning">{{ part.what }}: {{ part.why }}</div>
          </td>
        </tr>
      </LongList>
    </table>
  </section>
</template>
