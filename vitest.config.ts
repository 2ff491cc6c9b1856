import { defineConfig } from 'vitest/config'

// Each of these two has a server of its own and goes file by file; they take about as long, so that both go at once in
// `bin/test`.
const OF_LOGS =
  'tests/integration/{breadth-log,log,log-audit,log-names,log-publication,log-readings,log-source,log-structure,log-trigger-off}.test.ts'
const withServer = {
  globalSetup: ['tests/support/postgres.setup.ts'],
  testTimeout: 120_000,
  hookTimeout: 120_000,
  fileParallelism: false,
  // Files share what they import: to load it anew took some seconds of each.
  isolate: false,
}

export default defineConfig({
  test: {
    projects: [
      { test: { name: 'unit', include: ['{core,engine,server,app,standins}/**/*.test.ts'], testTimeout: 30_000 } },
      { test: { ...withServer, name: 'integration', include: ['tests/integration/**/*.test.ts'], exclude: [OF_LOGS] } },
      { test: { ...withServer, name: 'log', include: [OF_LOGS] } },
      {
        test: {
          name: 'e2e',
          include: ['tests/e2e/**/*.test.ts'],
          globalSetup: ['tests/support/application.setup.ts'],
          testTimeout: 120_000,
          hookTimeout: 240_000,
          fileParallelism: false,
        },
      },
    ],
  },
})
