import { Readable } from 'node:stream'
import { sendStream, setResponseHeaders } from 'h3'
import * as v from 'valibot'
import { lastName } from '../../../../core/things/thing'
import { openFile } from '../../../../engine/look/cluster'
import { noRows, openPoint } from '../../../../engine/points/open'

const Query = v.object({ path: v.string(), file: v.string(), show: v.optional(v.string()) })

/** What is shown of a text. */
const SHOWN = 256 * 1024
const PICTURES: Record<string, string> = {
  png: 'image/png',
  jpg: 'image/jpeg',
  jpeg: 'image/jpeg',
  gif: 'image/gif',
  webp: 'image/webp',
  svg: 'image/svg+xml',
  avif: 'image/avif',
}

/** One file of a volume: to keep, or the beginning of it to look at. */
export default route(async (engine, event) => {
  const { path, file, show } = queryOf(event, Query)
  const { entry, stream } = await openFile(await openPoint(engine, pointOf(event), noRows), path, file)
  if (!show) return sendFile(event, lastName(file), 'application/octet-stream', stream)
  const type = PICTURES[file.split('.').at(-1)!.toLowerCase()]
  // What an application wrote is shown and never run: a picture may hold scripts, and no type is guessed.
  setResponseHeaders(event, {
    'content-type': type ?? 'text/plain; charset=utf-8',
    'content-security-policy': "default-src 'none'; style-src 'unsafe-inline'; sandbox",
    'x-content-type-options': 'nosniff',
  })
  return sendStream(event, type ? stream : Readable.from(beginning(stream, Math.min(entry.size, SHOWN))))
})

async function* beginning(stream: Readable, most: number): AsyncGenerator<Uint8Array> {
  let left = most
  for await (const bytes of stream as AsyncIterable<Uint8Array>) {
    yield bytes.subarray(0, left)
    left -= bytes.length
    if (left <= 0) return
  }
}
