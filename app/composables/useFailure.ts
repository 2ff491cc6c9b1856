/** Tells of something that a person asked for and that failed, where no place on the page is for it. */
export function useFailure() {
  const toast = useToast()
  return (thrown: unknown): void => {
    const { what, touched, next } = errorOf(thrown)
    toast.add({ title: what, description: `${touched} ${next}`, color: 'error', icon: 'i-lucide-circle-alert', duration: 15_000 })
  }
}
