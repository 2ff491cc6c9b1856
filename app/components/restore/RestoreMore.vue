<script setup lang="ts">
import { KEEP_DAYS } from '~~/core/restore/wish'

// Choices that are seldom needed: roles, what comes along, how long what is overwritten is kept.
const bench = useWorkbench()
const { choices } = bench
const missing = computed(() => [...new Set(bench.plans.flatMap(({ roles }) => roles.missing))])
const there = computed(() => [...new Set(bench.plans.flatMap(({ roles }) => roles.there))].sort())
const KEEP = 'left out'
function map(role: string, to: string) {
  const roles = { ...choices.roles }
  if (to === KEEP) delete roles[role]
  else roles[role] = to
  choices.roles = roles
}
const changed = computed(
  () =>
    Object.keys(choices.roles).length + Number(choices.makeRoles) + Number(!choices.along) + Number(choices.keepDays !== KEEP_DAYS.default),
)
</script>

<template>
  <UPopover :ui="{ content: 'w-[360px] p-4 shadow-none ring ring-[var(--line-strong)] bg-[var(--sheet)]' }">
    <UButton size="sm" class="h-[30px]" data-more
      >More choices<span v-if="changed" class="glaze">, {{ changed }} chosen</span></UButton
    >
    <template #content>
      <div class="grid gap-4 text-[13px]">
        <div>
          <h3 class="font-semibold">Roles that are not there</h3>
          <p v-if="missing.length === 0" class="soft mt-1">Every role that is named exists at the target.</p>
          <div v-for="role in missing" :key="role" class="mt-2 flex items-center justify-between gap-3">
            <span class="mono cut">{{ role }}</span>
            <USelectMenu
              :model-value="choices.roles[role] ?? KEEP"
              :items="[KEEP, ...there]"
              size="sm"
              class="w-44"
              :disabled="choices.makeRoles"
              :aria-label="`In place of ${role}`"
              @update:model-value="(to) => map(role, String(to))"
            />
          </div>
          <UCheckbox v-if="missing.length > 0" v-model="choices.makeRoles" class="mt-3" label="Make them, without a password" />
        </div>
        <UCheckbox v-model="choices.along" label="Restore along what is needed and not there" />
        <label class="flex items-center justify-between gap-3">
          <span>Keep what is overwritten for</span>
          <span class="flex items-center gap-2"
            ><UInput
              v-model.number="choices.keepDays"
              type="number"
              :min="KEEP_DAYS.min"
              :max="KEEP_DAYS.max"
              size="sm"
              class="w-20"
              name="keep-days"
            />
            days</span
          >
        </label>
      </div>
    </template>
  </UPopover>
</template>
