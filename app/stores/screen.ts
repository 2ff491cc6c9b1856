import { defineStore } from 'pinia'
import { ref, shallowRef } from 'vue'

/** What is open over every page, and whether our own server answers. */
export const useScreen = defineStore('screen', () => {
  /** The command palette. */
  const palette = ref(false)
  /** The list of keys and words. */
  const help = ref(false)
  /** For which vessels the question for a backup is open. */
  const backUp = shallowRef<{ slug: string; name: string }[] | null>(null)
  /** Since when our own server has not answered; null while it does. */
  const lost = shallowRef<Date | null>(null)
  return { palette, help, backUp, lost }
})
