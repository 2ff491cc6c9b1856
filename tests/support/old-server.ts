import { createServer, type Socket } from 'node:net'
import { freePort } from './postgres.setup'

const message = (kind: string, body: Buffer): Buffer => {
  const head = Buffer.alloc(5)
  head.write(kind)
  head.writeUInt32BE(body.length + 4, 1)
  return Buffer.concat([head, body])
}
const int32 = (value: number) => {
  const buffer = Buffer.alloc(4)
  buffer.writeInt32BE(value)
  return buffer
}
const int16 = (value: number) => {
  const buffer = Buffer.alloc(2)
  buffer.writeInt16BE(value)
  return buffer
}
const ready = message('Z', Buffer.from('I'))
const column = (name: string, type: number) =>
  Buffer.concat([Buffer.from(`${name}\0`), int32(0), int16(0), int32(type), int16(-1), int32(-1), int16(0)])
const field = (text: string) => Buffer.concat([int32(Buffer.byteLength(text)), Buffer.from(text)])

/** Speaks as much of the server's open protocol as it takes to say how old it is. */
export async function oldServer(version: string, number: number): Promise<{ port: number; close: () => Promise<void> }> {
  const answer = (text: string): Buffer => {
    if (!/server_version/.test(text)) return Buffer.concat([...text.split(';').map(() => message('C', Buffer.from('SET\0'))), ready])
    const row = Buffer.concat([int16(2), field(version), field(String(number))])
    return Buffer.concat([
      message('T', Buffer.concat([int16(2), column('version', 25), column('number', 23)])),
      message('D', row),
      message('C', Buffer.from('SELECT 1\0')),
      ready,
    ])
  }
  const sockets = new Set<Socket>()
  const server = createServer((socket) => {
    sockets.add(socket)
    let greeted = false
    socket
      .on('error', () => undefined)
      .on('data', (data) => {
        if (!greeted) {
          greeted = true
          socket.write(Buffer.concat([message('R', int32(0)), ready]))
        } else if (data.toString('latin1', 0, 1) === 'Q') {
          socket.write(answer(data.toString('utf8', 5, data.length - 1)))
        }
      })
  })
  const port = await freePort()
  await new Promise<void>((resolve) => server.listen(port, '127.0.0.1', resolve))
  return {
    port,
    close: () =>
      new Promise((resolve) => {
        for (const socket of sockets) socket.destroy()
        server.close(() => resolve())
      }),
  }
}
