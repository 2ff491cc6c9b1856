import { existsSync } from 'node:fs'
import { availableParallelism } from 'node:os'
import { join } from 'node:path'
import { Piscina } from 'piscina'
import type { ChunkKey } from '../store/keys'
import type { nameManyTask, openManyTask, Pieces, sealManyTask } from './pieces'
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

  /** Names and digests of many small pieces at once. */
  nameMany({ memory, bounds }: Pieces, key: Buffer): Promise<ReturnType<typeof nameManyTask>> {
    return this.piscina.run({ memory, bounds, key }, { name: 'nameMany' })
  }

  /** Seals many small pieces at once, in the memory that they share with us. */
  sealMany({ memory, bounds }: Pieces, names: Uint8Array, chunkKey: ChunkKey): Promise<ReturnType<typeof sealManyTask>> {
    return this.piscina.run({ memory, bounds, names, chunkKey }, { name: 'sealMany' })
  }

  seal(task: SealTask): Promise<SealedChunk> {
    return this.piscina.run(task, { name: 'sealChunk', transferList: [task.plain.buffer] })
  }

  open(task: OpenTask): Promise<Uint8Array<ArrayBuffer>> {
    return this.piscina.run(task, { name: 'openChunk' })
  }

  /** Opens entries of a pack that lie back to back; the bytes are moved to the thread. */
  openMany(task: Parameters<typeof openManyTask>[0]): Promise<Uint8Array<ArrayBuffer>[]> {
    return this.piscina.run(task, { name: 'openMany', transferList: [task.bytes.buffer as ArrayBuffer] })
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
