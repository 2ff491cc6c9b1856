import type { RestoresView, RunDetail } from '~~/server/views'

/** What the address wants done once more: `again`, the restore that a run was, or `saved`, one that was kept under a name. */
export function useEarlierWish(slug: () => string) {
  const route = useRoute()
  const named = (name: 'again' | 'saved') => (route.query[name] ? String(route.query[name]) : null)
  const run = useLoad<RunDetail>(() => (named('again') ? `/api/runs/${named('again')}` : null), { tells: true })
  const restores = useLoad<RestoresView>(() => (named('saved') ? `/api/vessels/${slug()}/restores` : null), { tells: true })
  const saved = computed(() => restores.data.value?.saved.find(({ id }) => id === named('saved')) ?? null)
  return {
    wish: computed(() => (run.data.value ? wishOfRun(run.data.value) : (saved.value?.wish ?? null))),
    error: computed(() => run.error.value ?? restores.error.value),
    /** The saved restore that this began as. */
    saved: computed(() => saved.value?.id ?? null),
  }
}
