import { freePort } from '../../demo/postgres-server'
import { createServer, type Socket } from 'node:net'

const message = (kind: string, body: Buffer): Buffer => {
  const head = Buffer.alloc(5)
  head.write(kind)
  head.writeUInt32BE(body.length + 4, 1)
  return Buffer.concat([head, body])
}
const zero = Buffer.alloc(4)
const ready = message('Z', Buffer.from('I'))

/**
 * Speaks as much of the server's open protocol as it takes to say how old it is, which a server says before it is
 * asked anything; `asked` are the statements that it got all the same.
 */
export async function oldServer(version: string): Promise<{ port: number; asked: () => string[]; close: () => Promise<void> }> {
  const sockets = new Set<Socket>()
  const asked: string[] = []
  const server = createServer((socket) => {
    sockets.add(socket)
    let greeted = false
    socket
      .on('error', () => undefined)
      .on('data', (data) => {
        if (!greeted) {
          greeted = true
          socket.write(Buffer.concat([message('R', zero), message('S', Buffer.from(`server_version\0${version}\0`)), ready]))
        } else if (data.toString('latin1', 0, 1) === 'Q') asked.push(data.toString('utf8', 5, data.length - 1))
      })
  })
  const port = await freePort()
  await new Promise<void>((resolve) => server.listen(port, '127.0.0.1', resolve))
  return {
    port,
    asked: () => asked,
    close: () =>
      new Promise((resolve) => {
        for (const socket of sockets) socket.destroy()
        server.close(() => resolve())
      }),
  }
}
