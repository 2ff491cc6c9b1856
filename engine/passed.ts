import { setTimeout } from 'node:timers/promises'

/** Whether a time has passed; false, at once, when nobody waits for it any more. */
export const passed = (ms: number, signal: AbortSignal): Promise<boolean> => setTimeout(ms, true, { signal }).catch(() => false)
