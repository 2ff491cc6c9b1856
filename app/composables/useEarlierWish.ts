import type { Wish } from '~~/core/restore/wish'
import type { RestoresView, RunDetail } from '~~/server/views'

/**
 * What the address wants done: `again`, the restore that a run was; `saved`, one that was kept under a name; `wish`, what
 * was chosen on the workbench when the address was copied, or left.
 */
export function useEarlierWish(slug: () => string) {
  const route = useRoute()
  const named = (name: 'again' | 'saved' | 'wish') => (route.query[name] ? String(route.query[name]) : null)
  const run = useLoad<RunDetail>(() => (named('again') ? `/api/runs/${named('again')}` : null), { tells: true })
  // Only as the page was opened: later the page itself writes there what is chosen.
  const choice = named('wish')
  const chosen = useLoad<Wish>(() => choice && `/api/choices/${choice}`, { tells: true })
  const restores = useLoad<RestoresView>(() => (named('saved') ? `/api/vessels/${slug()}/restores` : null), { tells: true })
  const saved = computed(() => restores.data.value?.saved.find(({ id }) => id === named('saved')) ?? null)
  return {
    wish: computed(() => chosen.data.value ?? (choice ? null : run.data.value ? wishOfRun(run.data.value) : (saved.value?.wish ?? null))),
    error: computed(() => chosen.error.value ?? run.error.value ?? restores.error.value),
    /** The saved restore that this began as. */
    saved,
  }
}
