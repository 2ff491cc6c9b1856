/**
 * The time of now, in milliseconds, moved on every `every` milliseconds.
 *
 * @param goes whether it has to go at all
 */
export function useTicking(every = 10_000, goes: () => boolean = () => true): Ref<number> {
  const now = ref(Date.now())
  let timer: ReturnType<typeof setInterval> | undefined
  watch(
    goes,
    (on) => {
      clearInterval(timer)
      now.value = Date.now()
      if (on) timer = setInterval(() => (now.value = Date.now()), every)
    },
    { immediate: true },
  )
  onScopeDispose(() => clearInterval(timer))
  return now
}
