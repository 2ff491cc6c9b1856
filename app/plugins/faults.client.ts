// What fails and is caught nowhere is told as well: a page that goes on as if nothing were is worse than one that stops.
export default defineNuxtPlugin((nuxt) => {
  const fail = useFailure()
  nuxt.hook('vue:error', (thrown) => {
    console.error(thrown)
    fail(thrown)
  })
  window.addEventListener('unhandledrejection', ({ reason }) => fail(reason))
})
