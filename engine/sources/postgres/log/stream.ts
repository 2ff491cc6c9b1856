import type { Socket } from 'node:net'
import pg from 'pg'
import { positionOf } from '../../../../core/chain/position'
import { quoteLiteral } from '../../../../core/restore/sql'
import { clientConfig, SESSION_SQL, translate, type PostgresAccess } from '../connect'
import { positionText } from './pgoutput'

const XLOG_DATA = 0x77
const KEEPALIVE = 0x6b
const STATUS_EVERY_MS = 5000
/** The server says that it is there every few seconds; a stream of which nothing is heard for so long is dead. */
const SILENT_MS = 30_000
const EPOCH_MS = 946_684_800_000

interface Wire {
  stream: Socket
  sendCopyFromChunk(bytes: Buffer): void
  on(event: 'copyData', listener: (message: { chunk: Buffer }) => void): void
  once(event: 'replicationStart', listener: () => void): void
}

/**
 * A connection for replication to one database, with the session settings that fix how values are written. A server
 * that is shut down waits for those who follow its log; one that does not answer holds it up for ten seconds at most.
 */
export async function connectReplication(access: PostgresAccess, database: string): Promise<pg.Client> {
  const client = new pg.Client({ ...clientConfig(access, database), replication: 'database' } as pg.ClientConfig)
  client.on('error', () => undefined)
  try {
    await client.connect()
    await client.query(`${SESSION_SQL}; set wal_sender_timeout = '10s'`)
    return client
  } catch (error) {
    await client.end().catch(() => undefined)
    throw translate(error, access, database)
  }
}

export interface StreamHandler {
  /** One message of the log. */
  message(bytes: Buffer): void
  /** The source has sent everything up to a position; nothing is on its way. */
  reached(position: string): void
}

/** Follows a slot from a position on. The handler says by `pause` and `resume` how fast. */
export class LogStream {
  private readonly wire: Wire
  private confirmed: bigint
  private timer: NodeJS.Timeout | undefined
  private heard = Date.now()
  private paused = false
  /** Settles when the stream ends, with what ended it. */
  readonly ended: Promise<Error>

  private constructor(
    private readonly client: pg.Client,
    from: string,
    private readonly handler: StreamHandler,
  ) {
    this.wire = (client as unknown as { connection: Wire }).connection
    this.confirmed = positionOf(from)!
    let end: (error: Error) => void
    this.ended = new Promise((resolve) => (end = resolve))
    this.client.on('error', (error) => end(error))
    this.client.on('end', () => end(new Error('Connection terminated')))
    this.finish = (error) => end(error)
  }

  private readonly finish: (error: Error) => void

  /** @throws VesselError and the server's errors when the slot can't be followed */
  static async open(
    access: PostgresAccess,
    database: string,
    options: { slot: string; publication: string; from: string; messages: boolean },
    handler: StreamHandler,
  ): Promise<LogStream> {
    const client = await connectReplication(access, database)
    const stream = new LogStream(client, options.from, handler)
    const started = new Promise<void>((resolve) => stream.wire.once('replicationStart', resolve))
    stream.wire.on('copyData', ({ chunk }) => stream.receive(chunk))
    const names = [`proto_version '1'`, `publication_names ${quoteLiteral(options.publication)}`]
    if (options.messages) names.push(`messages 'true'`)
    const failed = client.query(`START_REPLICATION SLOT "${options.slot}" LOGICAL ${options.from} (${names.join(', ')})`).then(
      () => new Error('The server ended the log.'),
      (error: Error) => error,
    )
    failed.then(stream.finish)
    const error = await Promise.race([started.then(() => null), stream.ended])
    if (error) {
      stream.close()
      throw error
    }
    stream.timer = setInterval(() => stream.beat(), STATUS_EVERY_MS)
    return stream
  }

  private beat(): void {
    this.status(false)
    if (this.paused) this.heard = Date.now()
    else if (Date.now() - this.heard >= SILENT_MS) {
      this.finish(new Error(`Nothing was heard of the log for ${SILENT_MS / 1000} s: the connection is dead.`))
      this.close()
    }
  }

  private receive(chunk: Buffer): void {
    this.heard = Date.now()
    if (chunk[0] === XLOG_DATA) this.handler.message(chunk.subarray(25))
    else if (chunk[0] === KEEPALIVE) {
      this.handler.reached(positionText(chunk.readBigUInt64BE(1)))
      if (chunk[17] === 1) this.status(false)
    }
  }

  /** Tells the source that everything up to a position is safe, so that it may forget it. */
  confirm(position: string): void {
    const value = positionOf(position)!
    if (value <= this.confirmed) return
    this.confirmed = value
    this.status(false)
  }

  /** Asks the source how far it has come; `reached` is called with the answer. */
  ask(): void {
    this.status(true)
  }

  private status(reply: boolean): void {
    const update = Buffer.alloc(34)
    update.writeUInt8(0x72, 0)
    for (const offset of [1, 9, 17]) update.writeBigUInt64BE(this.confirmed, offset)
    update.writeBigInt64BE(BigInt(Date.now() - EPOCH_MS) * 1000n, 25)
    update.writeUInt8(reply ? 1 : 0, 33)
    if (this.wire.stream.writable) this.wire.sendCopyFromChunk(update)
  }

  pause(): void {
    this.paused = true
    this.wire.stream.pause()
  }

  resume(): void {
    this.paused = false
    this.heard = Date.now()
    this.wire.stream.resume()
  }

  close(): void {
    clearInterval(this.timer)
    // In the middle of a copy no query can be sent any more; the server notices the closed socket.
    this.wire.stream.destroy()
  }
}
