import { fileURLToPath } from 'node:url'
import { apiRoutes } from './scripts/api-routes.mjs'

// One application for both halves: app/ is the interface, server/ its routes. Nothing is fetched from outside:
// fonts and icons ship with the application.
export default defineNuxtConfig({
  compatibilityDate: '2026-02-01',
  modules: ['@nuxt/ui', '@pinia/nuxt'],
  // The interface lives behind a sign-in and shows live state, so rendering it on the server would gain nothing.
  ssr: false,
  spaLoadingTemplate: 'spa-loading.html',
  css: ['~/assets/main.css'],
  // Folders are what a person sees; the name of a file alone says what it is.
  components: [{ path: '~/components', pathPrefix: false }],
  devtools: { enabled: false },
  telemetry: false,
  ui: { fonts: false, theme: { colors: ['primary', 'secondary', 'success', 'info', 'warning', 'error'] } },
  icon: {
    provider: 'server',
    fallbackToApi: false,
    serverBundle: { collections: ['lucide'] },
    clientBundle: { scan: true, sizeLimitKb: 256 },
  },
  app: {
    head: { title: 'Unbroken Vessel', htmlAttrs: { lang: 'en' }, link: [{ rel: 'icon', type: 'image/svg+xml', href: '/mark.svg' }] },
    pageTransition: false,
  },
  router: { options: { scrollBehaviorType: 'auto' } },
  nitro: nitro(),
  runtimeConfig: { apiRoutes: apiRoutes(fileURLToPath(new URL('server/api', import.meta.url))).join('\n') },
  imports: {
    presets: [
      {
        from: '@vueuse/core',
        imports: [
          'refDebounced',
          'useElementSize',
          'useEventListener',
          'useIntervalFn',
          'useMutationObserver',
          'useResizeObserver',
          'useThrottleFn',
          'watchDebounced',
        ],
      },
    ],
  },
  typescript: { strict: true, tsConfig: { compilerOptions: { noUncheckedIndexedAccess: true } } },
  vite: { build: { target: 'es2022' } },
})

// A function, because the types of the installed schema know only a part of these options.
function nitro(): object {
  return {
    // The worker threads (dist/) must share these packages with the server to the letter, so neither is copied:
    // both find them in node_modules.
    externals: { external: ['pg', 'pg-boss', 'piscina', 'kysely', '@toondepauw/node-zstd'], trace: false },
    esbuild: { options: { target: 'node20' } },
    compressPublicAssets: true,
    routeRules: {
      '/**': {
        headers: {
          'x-content-type-options': 'nosniff',
          'x-frame-options': 'DENY',
          'referrer-policy': 'no-referrer',
          'cross-origin-opener-policy': 'same-origin',
          'cross-origin-resource-policy': 'same-origin',
        },
      },
    },
  }
}
