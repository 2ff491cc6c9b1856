import { existsSync } from 'node:fs'
import { availableParallelism } from 'node:os'
import { join } from 'node:path'
import { Piscina } from 'piscina'
import type {
  ConvertTask,
  nameManyTask,
  OpenTask,
  Pieces,
  Reckoned,
  ReckonTask,
  Scanned,
  ScanTask,
  SealedChunk,
  sealManyTask,
  SealTask,
  SumsTask,
  sumsTask,
} from './tasks'

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

  /** Names and digests of many small pieces at once; their bytes come back with them. */
  nameMany({ bytes, bounds }: Pieces, key: Buffer): Promise<ReturnType<typeof nameManyTask> & Pick<Pieces, 'bytes'>> {
    return this.piscina.run({ bytes, bounds, key }, { name: 'nameMany', transferList: [bytes.buffer] })
  }

  /** Seals many small pieces at once; their bytes come back with what came of them. */
  sealMany({ bytes, bounds }: Pieces, names: Uint8Array[], key: Buffer): Promise<ReturnType<typeof sealManyTask> & Pick<Pieces, 'bytes'>> {
    return this.piscina.run({ bytes, bounds, names, key }, { name: 'sealMany', transferList: [bytes.buffer] })
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
