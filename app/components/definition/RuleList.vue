<script setup lang="ts">
import { formOf, isOfCluster, type Rule } from '~~/core/selection/rules'
import { lastName } from '~~/core/things/thing'
import type { ThingView, KeptOut } from '~~/server/views'

const draft = useDraft()
const { selection } = storeToRefs(draft)
const KINDS = [
  { label: 'database', value: 'database' },
  { label: 'schema', value: 'schema' },
  { label: 'table or thing', value: 'thing' },
  { label: 'namespace', value: 'namespace' },
  { label: 'object', value: 'object' },
  { label: 'volume', value: 'volume' },
]

const of = (rule: Rule) => selection.value?.rules[rule.id]
const trouble = (rule: Rule) => (rule.pattern ? selection.value?.troubles[rule.id] : null)
const names = (rule: Rule) => of(rule)?.first.slice(0, 4) ?? []

// What only labels keep out of a rule, while it is asked for.
const fail = useFailure()
const asked = ref<string | null>(null)
const out = shallowRef<KeptOut | null>(null)
async function askWhy(rule: Rule) {
  asked.value = asked.value === rule.id ? null : rule.id
  out.value = null
  if (asked.value === null) return
  try {
    out.value = await post<KeptOut>('/api/selection/explain', { rules: draft.definition.rules, rule: rule.id })
  } catch (thrown) {
    asked.value = null
    fail(thrown)
  }
}
watch(selection, () => {
  const rule = draft.definition.rules.find(({ id, labels }) => id === asked.value && labels)
  asked.value = null
  if (rule) void askWhy(rule)
})

// Paths to choose from while a pattern is typed.
const suggestions = ref<string[]>([])
async function suggest({ pattern, kind }: Rule) {
  // A namespace lists all that is in it, however long its path.
  const depth = kind === 'object' || kind === 'volume' ? 2 : pattern.split('/').length - 1
  const parent = pattern
    .split('/')
    .slice(0, Math.min(depth, pattern.split('/').length - 1))
    .join('/')
  if (/[*?]/.test(parent)) return
  const things = await $fetch<ThingView[]>(`/api/things/children${parent ? `?path=${encodeURIComponent(parent)}` : ''}`).catch(() => [])
  suggestions.value = things
    .filter((thing) => !thing.goneAt)
    .map((thing) => thing.path)
    .slice(0, 200)
}
</script>

<template>
  <section class="scroll-mt-4 pt-3.5 pb-6">
    <div class="flex items-baseline gap-3">
      <h2 class="text-[16px] font-semibold">What</h2>
      <span class="soft text-[13px]">in order, the last rule that fits decides; new things are taken by themselves</span>
      <span v-if="selection" class="ml-auto text-[13px] font-medium whitespace-nowrap" data-selection
        >{{ countInWords(selection.taken.count) }} taken, {{ countInWords(selection.left.count) }} left</span
      >
      <UButton size="sm" class="self-center" @click="draft.addRule('take')">Add a rule</UButton>
    </div>
    <p v-if="draft.definition.rules.length === 0" class="soft mt-2 border-t border-[var(--line)] py-3 text-[13px]">
      No rule yet, so nothing is taken. A rule names databases, schemas or tables, or namespaces and what is in them, by their path;
      <span class="mono">*</span> stands for any characters, <span class="mono">?</span> for one.
    </p>
    <div v-else class="rule mt-2 border-y border-[var(--line)]">
      <div
        v-for="(rule, i) in draft.definition.rules"
        :key="rule.id"
        data-rule
        class="group grid grid-cols-[20px_80px_124px_minmax(170px,1.25fr)_36px_22px_minmax(0,1fr)_20px] items-center gap-x-2 py-1 text-[13px]"
      >
        <span class="grid opacity-40 group-focus-within:opacity-100 group-hover:opacity-100">
          <button :disabled="i === 0" aria-label="Earlier" class="leading-[10px] disabled:opacity-30" @click="draft.moveRule(i, -1)">
            <UIcon name="i-lucide-chevron-up" class="size-3.5" />
          </button>
          <button
            :disabled="i === draft.definition.rules.length - 1"
            aria-label="Later"
            class="leading-[10px] disabled:opacity-30"
            @click="draft.moveRule(i, 1)"
          >
            <UIcon name="i-lucide-chevron-down" class="size-3.5" />
          </button>
        </span>
        <USelect
          v-model="rule.act"
          :items="[
            { label: 'Take', value: 'take' },
            { label: 'Leave', value: 'leave' },
          ]"
          value-key="value"
          size="sm"
          variant="ghost"
          class="font-semibold"
          :class="rule.act === 'take' ? 'text-[var(--glaze)]' : 'text-[var(--soft)]'"
          aria-label="Take or leave"
        />
        <USelect v-model="rule.kind" :items="KINDS" value-key="value" size="sm" variant="ghost" aria-label="Kind" />
        <span class="grid">
          <input
            v-model="rule.pattern"
            list="rule-paths"
            :placeholder="formOf(rule.kind)"
            :aria-label="`Pattern of rule ${i + 1}`"
            :aria-invalid="Boolean(trouble(rule))"
            class="mono w-full border-b bg-transparent py-0.5"
            :class="trouble(rule) ? 'border-[var(--error)]' : 'border-[var(--line-strong)] focus:border-[var(--ink)]'"
            spellcheck="false"
            @focus="suggest(rule)"
            @input="suggest(rule)"
          />
          <input
            v-if="isOfCluster(rule.kind)"
            :value="rule.labels ?? ''"
            :aria-label="`Labels of rule ${i + 1}`"
            :placeholder="rule.kind === 'namespace' ? 'any labels, or team=gates' : 'any labels, or app=gate,!old'"
            class="mono w-full bg-transparent py-0.5 text-[12px] placeholder:text-[var(--soft)]"
            spellcheck="false"
            @input="rule.labels = ($event.target as HTMLInputElement).value || undefined"
          />
        </span>
        <span class="num font-semibold" :class="{ soft: rule.act === 'leave' }">{{
          of(rule) ? (rule.act === 'leave' && of(rule)!.count > 0 ? '−' : '') + countInWords(of(rule)!.count) : ''
        }}</span>
        <svg width="22" height="10" viewBox="0 0 22 10" aria-hidden="true">
          <path v-if="rule.act === 'take'" d="M0 5H16" stroke="var(--glaze)" stroke-width="1.6" />
          <circle v-if="rule.act === 'take'" cx="18" cy="5" r="2.8" fill="var(--glaze)" />
          <path v-else d="M2 5H13M13 1V9" stroke="var(--soft)" stroke-width="1.5" />
        </svg>
        <span class="cut" :class="{ soft: rule.act === 'leave' }">
          <template v-if="trouble(rule)"
            ><span class="error">{{ trouble(rule) }}</span></template
          >
          <template v-else-if="of(rule)?.count === 0">{{
            of(rule)!.names > 0 ? 'a later rule decides over all of it' : 'nothing has this name now'
          }}</template>
          <template v-else
            ><template v-for="(thing, n) in names(rule)" :key="thing.path"
              ><template v-if="n > 0">, </template
              ><span class="mono" :class="{ 'glaze font-medium': rule.act === 'take' && thing.isNew }">{{
                lastName(thing.path)
              }}</span></template
            ><template v-if="(of(rule)?.count ?? 0) > names(rule).length">
              and {{ countInWords(of(rule)!.count - names(rule).length) }} more</template
            ></template
          >
        </span>
        <button aria-label="Remove this rule" class="opacity-50 hover:opacity-100" @click="draft.removeRule(i)">
          <UIcon name="i-lucide-x" class="size-4" />
        </button>
        <div
          v-if="rule.labels && !trouble(rule)"
          class="col-start-4 -mt-0.5 pb-0.5 text-[12px]"
          :class="{ 'col-span-4': asked === rule.id }"
        >
          <button class="lnk" :aria-expanded="asked === rule.id" @click="askWhy(rule)">what labels keep out</button>
          <div v-if="asked === rule.id && out" class="soft mt-1" data-kept-out>
            <p v-if="out.count === 0">Nothing: all that has this name has these labels.</p>
            <p v-for="thing in out.things.slice(0, 12)" :key="thing.path" class="py-px">
              <span class="mono text-[var(--ink)]">{{ thing.path }}</span>: {{ thing.why.join('; ')
              }}{{ thing.now ? `. Now ${thing.now.act === 'take' ? 'taken' : 'left'} by ${thing.now.pattern}` : '' }}
            </p>
            <p v-if="out.count > 12">and {{ countInWords(out.count - 12) }} more</p>
          </div>
        </div>
      </div>
      <div
        v-for="{ path, kind, count, names: some } in selection?.leftOver ?? []"
        :key="path"
        class="grid min-h-9 grid-cols-[20px_212px_36px_minmax(0,1fr)_auto] items-center gap-x-2 text-[13px]"
        data-left-over
      >
        <span /><span class="warning font-medium">No rule names these</span
        ><span class="warning num font-semibold">{{ countInWords(count) }}</span>
        <span class="cut"
          ><span class="mono">{{ path }}</span
          ><span class="soft"
            >: {{ some.join(', ') }}<template v-if="count > some.length"> and {{ countInWords(count - some.length) }} more</template></span
          ></span
        >
        <span class="flex gap-3"
          ><button class="lnk" @click="draft.addRule('take', path, kind)">Take</button
          ><button class="lnk" @click="draft.addRule('leave', path, kind)">Leave</button></span
        >
      </div>
    </div>
    <p v-if="selection && selection.leftOverGroups > selection.leftOver.length" class="warning mt-2 text-[13px]">
      No rule names {{ countInWords(selection.unnamed.count) }} things in all, in
      {{ countInWords(selection.leftOverGroups - selection.leftOver.length) }} more schemas or kinds than are shown.
    </p>
    <p v-for="item in selection?.troubled ?? []" :key="item.path" class="warning mt-2 text-[13px]">
      <span class="mono">{{ item.path }}</span> is taken, and cannot be captured wholly. {{ item.trouble }}
    </p>
    <p v-if="selection && selection.sharedCount > 0" class="warning mt-2 text-[13px]">
      {{ plural(selection.sharedCount, 'thing') }} {{ selection.sharedCount === 1 ? 'is' : 'are' }} also in
      {{ [...new Set(selection.shared.map((thing) => thing.vessel))].join(', ') }}:
      {{
        selection.shared
          .slice(0, 3)
          .map((thing) => lastName(thing.path))
          .join(', ')
      }}{{ selection.sharedCount > 3 ? '…' : '' }}
    </p>
    <datalist id="rule-paths"><option v-for="path in suggestions" :key="path" :value="path" /></datalist>
  </section>
</template>
