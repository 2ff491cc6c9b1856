<script setup lang="ts">
import { keysInWords, useCommands } from '~/stores/commands'
import { useSettings } from '~/stores/settings'

const route = useRoute()
/** Points of all vessels stand with them. */
const isHere = (to: string) =>
  to === '/' ? route.path === '/' : route.path.startsWith(to) || (to === '/vessels' && route.path === '/points')

const { data: running } = useRunning()
const count = computed(() => running.value?.length ?? 0)
const share = computed(() => {
  const shares = (running.value ?? []).flatMap(({ counters }) => shareOf(counters) ?? [])
  return shares.length > 0 ? shares.reduce((sum, share) => sum + share, 0) / shares.length : 0.15
})
const AROUND = 2 * Math.PI * 9

const { palette } = storeToRefs(useScreen())
const mode = useColorMode()
const settings = useSettings()
const commands = useCommands()
const ZONES = [
  { choice: 'mine', label: `Times as here (${ownZone()})` },
  { choice: 'UTC', label: 'Times in UTC' },
  { choice: 'source', label: 'Times as at the source of the page' },
] as const
const menu = computed(() => [
  [
    {
      label: 'No accounts yet: whoever reaches this address may do everything. It listens on loopback only.',
      type: 'label' as const,
      class: 'max-w-64 whitespace-normal font-normal text-[12px]',
    },
  ],
  (['system', 'light', 'dark'] as const).map((preference) => ({
    label: { system: 'Light or dark as the system', light: 'Light', dark: 'Dark' }[preference],
    type: 'checkbox' as const,
    checked: mode.preference === preference,
    onSelect: () => (mode.preference = preference),
  })),
  ZONES.map(({ choice, label }) => ({
    label,
    type: 'checkbox' as const,
    checked: settings.zoneChoice === choice,
    onSelect: () => (settings.zoneChoice = choice),
  })),
  commands.all
    .filter(({ id }) => id === 'help')
    .map(({ label, keys, run }) => ({ label, kbds: keys.flatMap(keysInWords), onSelect: () => run() })),
])
</script>

<template>
  <header class="flex h-[52px] print:hidden items-center border-b border-[var(--line)] px-6">
    <NuxtLink to="/" class="mr-10 flex items-center gap-2.5 text-[14.5px] font-semibold max-[1150px]:mr-6">
      <svg width="28" height="22" viewBox="0 0 28 22" aria-hidden="true">
        <path d="M1 2.5H27C27 11 21.6 16.4 18 17.4V20.5H10V17.4C6.4 16.4 1 11 1 2.5Z" fill="var(--ink)" />
        <path
          d="M18.2 2.5L14.8 7.2L17.6 10.2L13.2 14L14.4 20.5"
          fill="none"
          stroke="var(--gold)"
          stroke-width="1.9"
          stroke-linejoin="round"
        />
      </svg>
      <span>Unbroken Vessel</span>
    </NuxtLink>
    <nav class="flex h-full gap-[26px]" aria-label="Places">
      <NuxtLink
        v-for="place in PLACES"
        :key="place.to"
        :to="place.to"
        :aria-current="isHere(place.to) ? 'page' : undefined"
        class="relative flex items-center"
        :class="isHere(place.to) ? 'font-semibold' : 'soft hover:text-[var(--ink)]'"
      >
        {{ place.name }}
        <svg
          v-if="isHere(place.to)"
          class="absolute bottom-[7px] left-1/2 -translate-x-1/2"
          width="30"
          height="7"
          viewBox="0 0 30 7"
          aria-hidden="true"
        >
          <path d="M1 1C6 7.2 24 7.2 29 1" fill="none" stroke="var(--ink)" stroke-width="1.8" stroke-linecap="round" />
        </svg>
      </NuxtLink>
    </nav>
    <div class="ml-auto flex items-center gap-4">
      <button
        class="soft flex h-8 w-[248px] items-center gap-2 border-b border-[var(--edge)] px-0.5 text-[13px] max-[1150px]:w-44"
        @click="palette = true"
      >
        <UIcon name="i-lucide-search" class="size-[15px]" /><span class="cut">Find or do anything</span>
        <span class="ml-auto shrink-0 rounded border border-[var(--line-strong)] px-[5px] text-[11px] leading-4 font-medium">Ctrl K</span>
      </button>
      <span v-if="settings.isForeign" class="soft text-[12px]" data-zone>times in {{ settings.zone }}</span>
      <UTooltip :text="count === 0 ? 'Nothing is running' : `${plural(count, 'run')} running`">
        <NuxtLink :to="count === 1 ? `/runs/${running![0]!.id}` : '/runs?states=running,waiting'" :aria-label="`${count} running`">
          <svg width="24" height="24" viewBox="0 0 24 24">
            <circle cx="12" cy="12" r="9" fill="none" stroke="var(--line)" stroke-width="2.4" />
            <circle
              v-if="count > 0"
              cx="12"
              cy="12"
              r="9"
              fill="none"
              stroke="var(--glaze)"
              stroke-width="2.4"
              :stroke-dasharray="`${AROUND * share} ${AROUND}`"
              transform="rotate(-90 12 12)"
            />
            <text v-if="count > 0" x="12" y="16" text-anchor="middle" font-size="11" font-weight="600" fill="var(--ink)">{{ count }}</text>
          </svg>
        </NuxtLink>
      </UTooltip>
      <UDropdownMenu :items="menu" :content="{ align: 'end' }">
        <button class="flex items-center gap-1.5" aria-label="Menu">
          <UIcon name="i-lucide-settings-2" class="size-[18px]" /><UIcon name="i-lucide-chevron-down" class="size-3.5" />
        </button>
      </UDropdownMenu>
    </div>
  </header>
</template>
