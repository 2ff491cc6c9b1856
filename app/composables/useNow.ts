/** The time of now, in milliseconds, moved on every `every` milliseconds. */
export function useTicking(every = 10_000): Ref<number> {
  const now = ref(Date.now())
  const timer = setInterval(() => (now.value = Date.now()), every)
  onScopeDispose(() => clearInterval(timer))
  return now
}
