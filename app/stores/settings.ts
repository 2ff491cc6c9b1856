import { defineStore } from 'pinia'
import { useLocalStorage } from '@vueuse/core'
import { computed, shallowRef, watchEffect } from 'vue'
import { isZone } from '~~/core/time/zone'
import { ownZone, zoneInUse } from '~/utils/zone'

/** Whose time zone times are told in. */
export type ZoneChoice = 'mine' | 'UTC' | 'source'

/** What a person has set for this browser. */
export const useSettings = defineStore('settings', () => {
  const zoneChoice = useLocalStorage<ZoneChoice>('time zone', 'mine')
  /** Columns that are not shown, by the table. */
  const putAway = useLocalStorage<Record<string, string[]>>('columns put away', {})
  /** The zone of the source that the page is about; null where it is about none, or that is not known. */
  const sourceZone = shallowRef<string | null>(null)
  const zone = computed(() => {
    if (zoneChoice.value === 'UTC') return 'UTC'
    const of = sourceZone.value
    return zoneChoice.value === 'source' && of !== null && isZone(of) ? of : ownZone()
  })
  watchEffect(() => (zoneInUse.value = zone.value), { flush: 'sync' })
  /** Whether times are told in another zone than that of the person who reads them. */
  const isForeign = computed(() => zone.value !== ownZone())
  return { zoneChoice, putAway, sourceZone, zone, isForeign }
})
