import type { LocationQueryRaw } from 'vue-router'

/**
 * Writes what a person chose into the address of the page at hand, after "?", so that a link shows the same.
 * What is undefined is taken out; `'only'` takes out all else. Whoever is on the way to another page, or has
 * left, goes where they wanted: writing the address would end that silently.
 */
export function useQuery() {
  const route = useRoute()
  const router = useRouter()
  let leaving = false
  const forgets = [
    router.beforeEach((to, from) => {
      leaving = to.path !== from.path
    }),
    router.afterEach(() => {
      leaving = false
    }),
  ]
  onScopeDispose(() => forgets.forEach((forget) => forget()))
  return async (chosen: LocationQueryRaw, how?: 'only'): Promise<void> => {
    if (leaving || router.currentRoute.value.path !== route.path) return
    await router.replace({ query: how === 'only' ? chosen : { ...route.query, ...chosen } })
  }
}
