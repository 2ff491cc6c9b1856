import { PassThrough, Writable, type Readable } from 'node:stream'
import { Exec, type V1Status } from '@kubernetes/client-node'
import { VesselError } from '../../../core/errors'
import { ApiFailure, type ClusterClient } from './client'

export interface ExecTarget {
  namespace: string
  pod: string
  container: string
}

export interface ExecResult {
  /** Exit code; null when the command could not be started at all. */
  code: number | null
  /** The end of what it wrote to its error output. */
  errors: string
  /** What the cluster says when it was not started. */
  message: string
}

type Socket = Awaited<ReturnType<Exec['exec']>>

/** What is kept of a command's output; hooks may print megabytes. */
const KEPT = 64 * 1024

/** Keeps the end of what is written to it. */
export class Tail extends Writable {
  private parts: Buffer[] = []
  private size = 0

  override _write(part: Buffer, _: BufferEncoding, done: () => void): void {
    this.parts.push(part)
    this.size += part.length
    while (this.size - this.parts[0]!.length > KEPT) this.size -= this.parts.shift()!.length
    done()
  }

  get text(): string {
    return Buffer.concat(this.parts).toString('utf8').slice(-KEPT)
  }
}

/**
 * Runs a command in a container; its output goes to `out`, no faster than that takes it, and `input` to it, no faster
 * than it goes over the wire. Input takes a shell and GNU's head in the container.
 * @throws VesselError when the connection breaks before the command has ended
 */
export async function execute(
  client: ClusterClient,
  target: ExecTarget,
  command: string[],
  out: Writable,
  signal: AbortSignal,
  input: Readable | null = null,
): Promise<ExecResult> {
  signal.throwIfAborted()
  const errors = new Tail()
  const { namespace, pod, container } = target
  let socket: Socket | undefined
  let end: (() => void) | undefined
  let listening: NodeJS.Timeout | undefined
  const feed = input ? new PassThrough() : null
  try {
    const status = await new Promise<V1Status>((resolve, reject) => {
      end = () => reject(signal.reason as Error)
      signal.addEventListener('abort', end)
      out.once('error', reject)
      new Exec(client.config)
        .exec(namespace, pod, container, input ? counted(command) : command, out, errors, feed, false, resolve)
        .then((opened) => {
          socket = opened
          if (input) pour(input, feed!, opened).catch(reject)
          opened.addEventListener('close', () => reject(lost(client, target)))
          listening = listen(opened, input ? FED_SILENT_MS : SILENT_MS, () => reject(lost(client, target)))
          opened.addEventListener('message', () => {
            // The client library writes without asking whether there is room.
            if (out.writableLength < out.writableHighWaterMark) return
            pause(opened)
            out.once('drain', () => resume(opened))
          })
        })
        .catch(reject)
    })
    return { ...outcomeOf(status), errors: errors.text }
  } catch (error) {
    throw client.translate(whyNotOpened(error, target))
  } finally {
    if (end) signal.removeEventListener('abort', end)
    clearInterval(listening)
    socket?.close()
  }
}

/** The client library throws the event of a connection that could not be opened, with what happened within. */
function whyNotOpened(thrown: unknown, { namespace, pod }: ExecTarget): unknown {
  const error = (thrown as { error?: unknown }).error ?? thrown
  const [, status] = /^Unexpected server response: (\d+)/.exec((error as Error).message) ?? []
  return status ? new ApiFailure(Number(status), '', `a command can’t be run in the pod ${namespace}/${pod}`) : error
}

const ASK_MS = 10_000
/** The other end answers at once, whatever the command does. */
const SILENT_MS = 60_000
/** An answer may wait behind input that the command has not taken yet. */
const FED_SILENT_MS = 10 * 60_000

/** Asks the other end whether it is there. A connection that says nothing any more is dead, though nobody closed it. */
function listen(socket: Socket, silentMs: number, dead: () => void): NodeJS.Timeout {
  const wire = socket as unknown as { ping(): void; terminate(): void; isPaused: boolean; readyState: number } & NodeJS.EventEmitter
  let heard = Date.now()
  const hear = () => (heard = Date.now())
  wire.on('message', hear).on('pong', hear)
  return setInterval(() => {
    // We are the ones who do not listen, because what comes is not taken as fast.
    if (wire.isPaused) return void hear()
    if (Date.now() - heard < silentMs) return void (wire.readyState === 1 && wire.ping())
    dead()
    wire.terminate()
  }, ASK_MS)
}

// In Node.js the socket is one of the package ws, which can be paused.
const pause = (socket: Socket) => (socket as unknown as { pause(): void }).pause()
const resume = (socket: Socket) => (socket as unknown as { resume(): void }).resume()

/** Bytes that may wait to be sent before more are read. */
const AHEAD = 4 * 1024 * 1024
/** Bytes that are announced together. */
const FRAME = 4 * 1024 * 1024

/**
 * Clusters before Kubernetes 1.30 have no way to tell a command that its input has ended. So each frame is announced
 * with its length, none with 0, and a shell hands over what lies between.
 */
const counted = (command: string[]) => [
  'sh',
  '-c',
  'while read -r n && [ "$n" -gt 0 ] 2>/dev/null; do head -c "$n"; done | "$@"',
  'sh',
  ...command,
]

/** Bytes that go into one message; each has its price at both ends. */
const MESSAGE = 64 * 1024

/** Buffers in groups that have grown to a size. */
async function* gathered(input: AsyncIterable<Buffer>, size: number): AsyncGenerator<{ parts: Buffer[]; length: number }> {
  let [parts, length]: [Buffer[], number] = [[], 0]
  for await (const bytes of input) {
    parts.push(bytes)
    length += bytes.length
    if (length < size) continue
    yield { parts, length }
    ;[parts, length] = [[], 0]
  }
  if (length > 0) yield { parts, length }
}

async function* inMessages(input: Readable): AsyncGenerator<Buffer> {
  for await (const { parts } of gathered(input, MESSAGE)) yield Buffer.concat(parts)
}

async function* inFrames(input: Readable): AsyncGenerator<Buffer> {
  for await (const { parts, length } of gathered(inMessages(input), FRAME)) {
    yield Buffer.from(`${length}\n`)
    yield* parts
  }
  yield Buffer.from('0\n')
}

/** The feed is not ended: where a cluster can't pass that on, the client library closes the connection instead. */
async function pour(input: Readable, feed: PassThrough, socket: Socket): Promise<void> {
  for await (const bytes of inFrames(input)) {
    if (!feed.write(bytes)) await new Promise((resolve) => feed.once('drain', resolve))
    while (socket.bufferedAmount > AHEAD && socket.readyState === socket.OPEN) await new Promise((resolve) => setTimeout(resolve, 5))
  }
}

function outcomeOf(status: V1Status): Pick<ExecResult, 'code' | 'message'> {
  if (status.status === 'Success') return { code: 0, message: '' }
  const exit = status.details?.causes?.find(({ reason }) => reason === 'ExitCode')?.message
  return { code: exit === undefined ? null : Number(exit), message: status.message ?? '' }
}

const lost = (client: ClusterClient, { namespace, pod, container }: ExecTarget) =>
  new VesselError('connection_lost', {
    what: `The connection to a command in ${namespace}/${pod} (${container}) of ${client.access.name} broke before it had ended.`,
    touched: 'Whether it goes on there is not known.',
    next: 'See whether the pod still runs.',
  })
