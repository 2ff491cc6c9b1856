import type { Socket } from 'node:net'
import type pg from 'pg'
import { RowChunker, type RowChunk, type RowsTally } from '../../../core/content/rows'

// COPY … TO STDOUT read straight from the connection's socket. The driver would make an event and a buffer of
// every row, which costs more than hashing and sealing it (docs/decisions/0003-own-copy-reader.md). Only rows
// are taken; every other message is given to the driver's parser, so errors and the end are the driver's.

const COPY_DATA = 0x64
const COPY_OUT_RESPONSE = 0x48
const COPY_DONE = 0x63
const ERROR_RESPONSE = 0x45
const HEADER_BYTES = 5
// Past this the socket is paused until the store has caught up.
const HIGH_WATER = 2 * 1024 * 1024

type PartListener = (part: Buffer) => void

export interface CopyOptions {
  /** Position of the single integer key among the columns read, or -1. */
  keyColumn?: number
  signal?: AbortSignal
}

/**
 * Streams the rows of a COPY statement, cut into chunks. `onChunk` is awaited with the source held back, so a
 * slow store slows the reading down instead of filling the memory. An aborted copy closes its connection.
 * @returns rows, bytes and fingerprint of what was read.
 */
export async function copyOut(
  client: pg.Client,
  statement: string,
  options: CopyOptions,
  onChunk: (chunk: RowChunk) => Promise<void>,
): Promise<RowsTally> {
  const reader = new CopyReader(client, statement, options)
  try {
    for await (const chunk of reader.chunks()) await onChunk(chunk)
    return reader.tally()
  } finally {
    reader.close()
  }
}

class CopyReader {
  private readonly stream: Socket
  private readonly driver: PartListener[]
  private readonly chunker: RowChunker
  private parts: Buffer[] = []
  private queued = 0
  private wake: () => void = () => undefined
  /** Whether the socket is ours at present, not the driver's. */
  private ours = true
  private settled = false
  private failure: Error | undefined

  constructor(
    client: pg.Client,
    statement: string,
    private readonly options: CopyOptions,
  ) {
    // The driver's connection is public, but not in its types.
    this.stream = (client as unknown as { connection: { stream: Socket } }).connection.stream
    this.chunker = new RowChunker({ framed: true, keyColumn: options.keyColumn })
    this.driver = this.stream.listeners('data') as PartListener[]
    for (const listener of this.driver) this.stream.removeListener('data', listener)
    this.stream.on('data', this.onPart).on('close', this.onClose)
    options.signal?.addEventListener('abort', this.onAbort)
    client.query(statement).then(
      () => this.settle(undefined),
      (error: Error) => this.settle(error),
    )
    if (options.signal?.aborted) this.onAbort()
  }

  private readonly onPart: PartListener = (part) => {
    this.parts.push(part)
    this.queued += part.length
    if (this.queued > HIGH_WATER) this.stream.pause()
    this.wake()
  }
  private readonly onClose = () => this.settle(new Error('Connection terminated unexpectedly'))
  private readonly onAbort = () => this.stream.destroy()

  private settle(error: Error | undefined): void {
    this.failure ??= error
    this.settled = true
    this.wake()
  }

  async *chunks(): AsyncGenerator<RowChunk> {
    while (!this.settled || this.parts.length > 0) {
      this.options.signal?.throwIfAborted()
      if (this.parts.length === 0) {
        await new Promise<void>((resolve) => (this.wake = resolve))
        continue
      }
      yield* this.chunker.push(this.takeParts())
      while (this.passOn()) yield* this.chunker.push(new Uint8Array(0))
      if (this.ours) this.stream.resume()
    }
    this.options.signal?.throwIfAborted()
    if (this.failure) throw this.failure
    const last = this.chunker.finish()
    if (last) yield last
  }

  private takeParts(): Buffer {
    const { parts } = this
    this.parts = []
    this.queued = 0
    return parts.length === 1 ? parts[0]! : Buffer.concat(parts)
  }

  /** Deals with the next message if it is no row. Returns whether rows may follow it. */
  private passOn(): boolean {
    const kind = this.chunker.peek()
    if (!this.ours || kind === undefined || kind === COPY_DATA) return false
    const rest = Buffer.from(this.chunker.rest())
    if (kind === COPY_DONE || kind === ERROR_RESPONSE) {
      this.handOver()
      for (const listener of this.driver) listener(rest)
      return false
    }
    const length = rest.length >= HEADER_BYTES ? rest.readUInt32BE(1) + 1 : Infinity
    if (rest.length < length) return false
    this.chunker.skip(length)
    // Notices and the like may come at any time. The beginning of the copy is for us alone.
    if (kind !== COPY_OUT_RESPONSE) for (const listener of this.driver) listener(rest.subarray(0, length))
    return true
  }

  private handOver(): void {
    this.ours = false
    this.stream.removeListener('data', this.onPart)
    for (const listener of this.driver) this.stream.on('data', listener)
    this.stream.resume()
  }

  tally(): RowsTally {
    return this.chunker.tally()
  }

  close(): void {
    this.stream.removeListener('close', this.onClose)
    this.options.signal?.removeEventListener('abort', this.onAbort)
    // Given up in the middle: nothing else can be done with the connection.
    if (this.ours) this.stream.destroy()
  }
}
