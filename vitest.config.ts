import { fileURLToPath } from 'node:url'
import { defineConfig } from 'vitest/config'

// Three lanes, each with a server of its own and going file by file; they take about as long, so that all go at once in
// `bin/test`.
const lane = (files: string) => files.split(',').map((file) => `tests/integration/${file}.test.ts`)
const LONGEST = lane('breadth-log,take-back,bad-input,gone,log-application,log-by-chance,log-faults,whereto')
const SECOND = lane(
  'encodings,everything,log,log-audit,killed-worker,long-lists,older-catalog,log-differential,log-names,log-publication,log-readings,log-source,log-trigger-off,cluster,cluster-*,quiesce,quiesce-*',
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

/** The long way of a person through everything, and what looks at single pages and routes; as long as each other, about. */
const PATH = ['tests/e2e/path.test.ts']
const withApplication = {
  globalSetup: ['tests/support/application.setup.ts'],
  testTimeout: 120_000,
  hookTimeout: 240_000,
  fileParallelism: false,
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
      { test: { ...withApplication, name: 'path', include: PATH } },
      { test: { ...withApplication, name: 'pages', include: ['tests/e2e/**/*.test.ts'], exclude: PATH } },
    ],
  },
})
