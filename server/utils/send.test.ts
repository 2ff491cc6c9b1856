import { once } from 'node:events'
import { createServer } from 'node:http'
import type { AddressInfo } from 'node:net'
import { Readable } from 'node:stream'
import { createApp, defineEventHandler, toNodeListener } from 'h3'
import { expect, it } from 'vitest'
import { sendFile } from './send'

async function* broken() {
  yield Buffer.from('the first line\n')
  await new Promise((resolve) => setImmediate(resolve))
  throw new Error('its content is missing')
}

it('a download whose content is missing breaks off where whoever fetches it sees it', async () => {
  const app = createApp().use(defineEventHandler((event) => sendFile(event, 'rows.csv', 'text/csv', Readable.from(broken()))))
  const server = createServer(toNodeListener(app)).listen(0, '127.0.0.1')
  await once(server, 'listening')
  try {
    const answer = await fetch(`http://127.0.0.1:${(server.address() as AddressInfo).port}`)
    expect(answer.status).toBe(200)
    await expect(answer.text()).rejects.toThrow('terminated')
  } finally {
    server.close()
  }
}, 5000)
