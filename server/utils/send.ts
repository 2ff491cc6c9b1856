import type { Readable } from 'node:stream'
import { sendStream, setResponseHeaders, type H3Event } from 'h3'

/** A file for the person to keep, streamed as it is read. */
export function sendFile(event: H3Event, name: string, type: string, stream: Readable) {
  const plain = name.replace(/[^\w.-]/g, '_')
  setResponseHeaders(event, {
    'content-type': type,
    'content-disposition': `attachment; filename="${plain}"; filename*=UTF-8''${encodeURIComponent(name)}`,
    'x-content-type-options': 'nosniff',
  })
  // What breaks off must be seen to break off: the answer has begun, so that no status can tell it any more.
  stream.once('error', () => event.node.res.destroy())
  return sendStream(event, stream)
}
