import { fromAbsolute, getLocalTimeZone, toCalendarDate } from '@internationalized/date'
import { shallowRef } from 'vue'
import { offsetOf } from '~~/core/time/zone'

// In which time zone times are told and read. What tells a time depends on it, so that all of them change with it.

export const ownZone = (): string => getLocalTimeZone()

/** The time zone in use, by its name in the IANA database. */
export const zoneInUse = shallowRef(ownZone())

/** A time as a clock and a calendar of the zone in use show it. */
export const zoned = (at: Date | number | string, zone = zoneInUse.value) => fromAbsolute(new Date(at).getTime(), zone)

/** How many milliseconds the zone in use is ahead of UTC at a time. */
export const offsetAt = (at: Date | number): number => offsetOf(zoneInUse.value, new Date(at).getTime())

export const startOfDay = (at: Date): Date => toCalendarDate(zoned(at)).toDate(zoneInUse.value)
