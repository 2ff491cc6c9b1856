import { existsSync } from 'node:fs'
import { availableParallelism } from 'node:os'
import { join } from 'node:path'
import { Piscina } from 'piscina'
import type { ConvertTask, OpenTask, Reckoned, ReckonTask, Scanned, ScanTask, SealedChunk, SealTask, SumsTask, sumsTask } from './tasks'

/**
 * The threads that hash, compress, seal and open content, as many as there are cores; shared by all runs of a
 * process.
 */
export class ContentPool {
  readonly threads: number
  private readonly piscina: Piscina

  constructor(options: { root: string; threads?: number }) {
    const filename = join(options.root, 'dist', 'pool-worker.mjs')
    if (!existsSync(filename)) throw new Error(`${filename} is missing; run "npm run build:engine" first`)
    this.threads = options.threads ?? Math.min(8, availableParallelism())
    // A thread that waits for its next task without turning its event loop never frees what was collected.
    this.piscina = new Piscina({ filename, minThreads: this.threads, maxThreads: this.threads, atomics: 'disabled' })
  }

  /** The keyed name of a chunk. The plain bytes are moved to the thread and come back with the result. */
  name(plain: Uint8Array<ArrayBuffer>, key: Buffer): Promise<{ name: Uint8Array; plain: Uint8Array<ArrayBuffer> }> {
    return this.piscina.run({ plain, key }, { name: 'name', transferList: [plain.buffer] })
  }

  /** Names and SHA-256 of many small pieces at once, 32 bytes each; the pieces come back with them. */
  nameMany(
    plains: Uint8Array<ArrayBuffer>[],
    key: Buffer,
  ): Promise<{ names: Uint8Array; sums: Uint8Array; plains: Uint8Array<ArrayBuffer>[] }> {
    return this.piscina.run({ plains, key }, { name: 'nameMany', transferList: plains.map(({ buffer }) => buffer) })
  }

  sealMany(tasks: SealTask[]): Promise<SealedChunk[]> {
    return this.piscina.run(tasks, { name: 'sealMany', transferList: tasks.map(({ plain }) => plain.buffer) })
  }

  seal(task: SealTask): Promise<SealedChunk> {
    return this.piscina.run(task, { name: 'sealChunk', transferList: [task.plain.buffer] })
  }

  open(task: OpenTask): Promise<Uint8Array<ArrayBuffer>> {
    return this.piscina.run(task, { name: 'openChunk' })
  }

  scan(task: ScanTask): Promise<Scanned> {
    return this.piscina.run(task, { name: 'scanChunk' })
  }

  reckon(task: ReckonTask): Promise<Reckoned> {
    return this.piscina.run(task, { name: 'reckonChunk' })
  }

  /** Checksums of key ranges. */
  sums(task: SumsTask): Promise<ReturnType<typeof sumsTask>> {
    return this.piscina.run(task, { name: 'sumsOfChunk' })
  }

  convert(task: ConvertTask): Promise<{ bytes: Uint8Array; rows: number }> {
    return this.piscina.run(task, { name: 'convertChunk' })
  }

  close(): Promise<void> {
    return this.piscina.close()
  }
}
