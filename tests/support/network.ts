import { connect as connectTo, createServer, type Socket } from 'node:net'

/** Stands between us and a server; once it is silent it lets nobody through, and closes nothing. */
export async function network(port: number) {
  const open = new Set<Socket>()
  let silent = false
  const server = createServer((client) => {
    const upstream = connectTo(port, '127.0.0.1')
    open.add(client).add(upstream)
    client.on('error', () => undefined).on('data', (bytes) => void (silent || upstream.write(bytes)))
    upstream.on('error', () => undefined).on('data', (bytes) => void (silent || client.write(bytes)))
    client.on('close', () => upstream.destroy())
    upstream.on('close', () => void (silent || client.destroy()))
  })
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve))
  return {
    port: (server.address() as { port: number }).port,
    silence: () => (silent = true),
    /** The network is there again; what was open then is dead. */
    recover: () => {
      silent = false
      for (const socket of open) socket.destroy()
      open.clear()
    },
    close: () => {
      for (const socket of open) socket.destroy()
      server.close()
    },
  }
}

export type Network = Awaited<ReturnType<typeof network>>
