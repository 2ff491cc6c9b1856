import type { IncomingMessage } from 'node:http'
import type { Duplex } from 'node:stream'
import { WebSocketServer, type WebSocket } from 'ws'
import type { Cluster } from './cluster'
import { Failure } from './failure'
import type { ObjectRequest } from './requests'

// Running a command in a container over a WebSocket: a channel's number, then its bytes, in each message.

const [STDIN, STDOUT, STDERR, ERROR, CLOSE] = [0, 1, 2, 3, 255]
/** Bytes that may wait on their way to the client before the program has to. */
const HIGH_WATER = 4 * 1024 * 1024
const PROTOCOLS = ['v5.channel.k8s.io', 'v4.channel.k8s.io', 'channel.k8s.io']

const servers = new WeakMap<Cluster, WebSocketServer>()

function serverOf(cluster: Cluster): WebSocketServer {
  const known = servers.get(cluster)
  if (known) return known
  const server = new WebSocketServer({
    noServer: true,
    handleProtocols: (offered) =>
      PROTOCOLS.find((protocol) => offered.has(protocol) && !cluster.options.without.includes(protocol)) ?? false,
    perMessageDeflate: false,
  })
  servers.set(cluster, server)
  return server
}

export function execute(cluster: Cluster, asked: ObjectRequest, request: IncomingMessage, socket: Duplex, head: Buffer): void {
  const { type, namespace, name, query } = asked
  const pod = cluster.objects.get(type, namespace, name!)
  const container = query.get('container') ?? undefined
  if (container && !pod.spec!.containers.some((candidate: { name: string }) => candidate.name === container))
    throw new Failure(400, 'BadRequest', `container ${container} is not valid for pod ${name}`)
  const command = query.getAll('command')
  if (command.length === 0) throw new Failure(400, 'BadRequest', 'you must specify at least 1 command for the container')
  serverOf(cluster).handleUpgrade(request, socket, head, (client) => run(cluster, client, pod, container, command))
}

function run(
  cluster: Cluster,
  client: WebSocket,
  pod: Parameters<Cluster['pods']['exec']>[0],
  container: string | undefined,
  command: string[],
): void {
  const send = (channel: number, bytes: Buffer | string) => client.send(Buffer.concat([Buffer.of(channel), Buffer.from(bytes)]))
  const finish = (status: unknown) => {
    send(ERROR, JSON.stringify(status))
    client.close(1000)
  }
  const failed = (message: string, reason = 'InternalError') => finish(new Failure(500, reason, message).status)
  const child = cluster.pods.exec(pod, container, command)
  if (child === null) return failed(`container is not running in pod ${pod.metadata.name}`)
  if (child === undefined) return failed(`exec: "${command[0]}": executable file not found in $PATH`)
  for (const [channel, stream] of [
    [STDOUT, child.stdout!],
    [STDERR, child.stderr!],
  ] as const) {
    stream.on('data', (bytes: Buffer) => {
      send(channel, bytes)
      if (client.bufferedAmount < HIGH_WATER) return
      stream.pause()
      const timer = setInterval(() => {
        if (client.bufferedAmount > HIGH_WATER / 2 && client.readyState === client.OPEN) return
        clearInterval(timer)
        stream.resume()
      }, 5)
    })
  }
  client.on('message', (data: Buffer) => {
    // What has arrived already is still told after a pause.
    if (data[0] === STDIN && !child.stdin!.write(data.subarray(1)) && !client.isPaused) {
      client.pause()
      child.stdin!.once('drain', () => client.resume())
    }
    if (data[0] === CLOSE && data[1] === STDIN) child.stdin!.end()
  })
  child.stdin!.on('error', () => undefined)
  child.on('error', (error) => failed(error.message))
  child.on('close', (code, signal) => {
    if (client.readyState !== client.OPEN) return
    if (code === 0) return finish({ metadata: {}, status: 'Success' })
    const exit = code ?? 128 + (signal === 'SIGKILL' ? 9 : 15)
    finish({
      ...new Failure(500, 'NonZeroExitCode', `command terminated with non-zero exit code: exit status ${exit}`).status,
      details: { causes: [{ reason: 'ExitCode', message: String(exit) }] },
    })
  })
  // A client that goes away leaves its program running, as a real cluster does; what it starts ends with its pod.
  client.on('close', () => child.stdin!.end())
}
