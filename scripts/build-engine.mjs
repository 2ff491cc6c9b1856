// Builds what runs outside the web server's own bundle: the worker threads, the standalone worker, the demo, the benchmarks.
import { build } from 'esbuild'

export async function buildEngine() {
  await build({
    entryPoints: {
      'pool-worker': 'engine/pool/worker.ts',
      worker: 'engine/jobs/main.ts',
      'rebuild-index': 'engine/jobs/rebuild-index.ts',
      demo: 'demo/main.ts',
      bench: 'bench/main.ts',
      soak: 'soak/main.ts',
      cluster: 'standins/cluster/main.ts',
      'manifest-service': 'standins/cluster/programs/manifest-service.ts',
    },
    outdir: 'dist',
    outExtension: { '.js': '.mjs' },
    bundle: true,
    platform: 'node',
    format: 'esm',
    target: 'node20',
    packages: 'external',
    sourcemap: true,
    logLevel: 'warning',
  })
}

if (import.meta.filename === process.argv[1]) await buildEngine()
