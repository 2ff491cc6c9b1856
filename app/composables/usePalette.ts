/** Whether the command palette is open. */
export const usePalette = () => useState('palette', () => false)

/** Whether the list of keys is open. */
export const useKeyHelp = () => useState('key-help', () => false)

/** For which vessels the question for a backup is open. */
export const useBackUp = () => useState<{ slug: string; name: string }[] | null>('back-up', () => null)

/** Whether something was ever open. */
export function useOnce(open: Ref<unknown>): Ref<boolean> {
  const once = ref(Boolean(open.value))
  watch(open, (value) => value && (once.value = true))
  return once
}
