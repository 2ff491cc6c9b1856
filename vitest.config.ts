import { fileURLToPath } from 'node:url'
import { defineConfig } from 'vitest/config'

// Three lanes, each with a server of its own and going file by file; they take about as long, so that all go at once in
// `bin/test`.
const lane = (files: string) => files.split(',').map((file) => `tests/integration/${file}.test.ts`)
const LONGEST = lane('breadth-log,take-back,bad-input,gone,log-application,log-faults,whereto')
const SECOND = lane(
  'log,log-audit,log-by-chance,killed-worker,long-lists,older-catalog,log-names,log-publication,log-readings,log-source,log-trigger-off,cluster,cluster-*,still,still-*',
)
// It looks at moments right beside changes, which takes a machine that has time.
const ALONE = lane('log-structure')

const root = fileURLToPath(new URL('.', import.meta.url)).replace(/\/$/, '')
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
    // What differs is read in the last lines of `bin/test`, where there is no picture of it.
    chaiConfig: { truncateThreshold: 1500 },
    projects: [
      {
        // As the application itself names what lies outside of it.
        resolve: { alias: { '~~': root, '~': `${root}/app` } },
        test: { name: 'unit', include: ['{core,engine,server,app,standins}/**/*.test.ts'], testTimeout: 30_000, isolate: false },
      },
      {
        test: {
          ...withServer,
          name: 'integration',
          include: ['tests/integration/**/*.test.ts'],
          exclude: [...LONGEST, ...SECOND, ...ALONE],
        },
      },
      { test: { ...withServer, name: 'log', include: SECOND } },
      { test: { ...withServer, name: 'structure', include: ALONE } },
      { test: { ...withServer, name: 'churn', include: LONGEST } },
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
