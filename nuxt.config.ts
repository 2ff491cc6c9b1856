// One application for both halves: app/ is the interface, server/ its routes. Nothing is fetched from outside:
// fonts and icons ship with the application.
export default defineNuxtConfig({
  compatibilityDate: '2026-02-01',
  modules: ['@nuxt/ui', '@pinia/nuxt'],
  // The interface lives behind a sign-in and shows live state, so rendering it on the server would gain nothing.
  ssr: false,
  spaLoadingTemplate: 'spa-loading.html',
  css: ['~/assets/main.css'],
  devtools: { enabled: false },
  telemetry: false,
  ui: { fonts: false, theme: { colors: ['primary', 'secondary', 'success', 'info', 'warning', 'error'] } },
  icon: {
    provider: 'server', fallbackToApi: false, serverBundle: { collections: ['lucide'] },
    clientBundle: { scan: true, sizeLimitKb: 256 },
  },
  app: {
    head: { title: 'Unbroken Vessel', htmlAttrs: { lang: 'en' }, link: [{ rel: 'icon', type: 'image/svg+xml', href: '/mark.svg' }] },
    pageTransition: false,
  },
  router: { options: { scrollBehaviorType: 'auto' } },
  nitro: {
    // What it loads at run time from dist/ shares these packages, so they stay outside of the bundle.
    externals: { external: ['pg', 'pg-boss', 'piscina', 'kysely', '@toondepauw/node-zstd'] },
    esbuild: { options: { target: 'node20' } },
  },
  typescript: { strict: true, tsConfig: { compilerOptions: { noUncheckedIndexedAccess: true } } },
  vite: { build: { target: 'es2022' } },
})
