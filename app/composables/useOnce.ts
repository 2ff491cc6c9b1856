/** Whether something was ever open. */
export function useOnce(open: Ref<unknown>): Ref<boolean> {
  const once = ref(Boolean(open.value))
  watch(open, (value) => value && (once.value = true))
  return once
}
