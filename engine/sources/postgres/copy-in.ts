import { once } from 'node:events'
import type pg from 'pg'
import { from as copyFrom } from 'pg-copy-streams'
import { qualified, quoteIdentifier } from '../../../core/restore/sql'

/** Loads chunks of COPY text rows into a table, with the stream held back where the server is slower. */
export async function copyIn(
  client: pg.Client,
  target: { schema: string; name: string },
  columns: string[],
  chunks: AsyncIterable<Uint8Array>,
  loaded: (bytes: number, chunk: number) => void,
): Promise<void> {
  const list = columns.length > 0 ? ` (${columns.map(quoteIdentifier).join(', ')})` : ''
  const stream = client.query(copyFrom(`copy ${qualified(target.schema, target.name)}${list} from stdin`))
  const failed = new Promise<never>((_, reject) => stream.on('error', reject))
  failed.catch(() => undefined)
  const write = async () => {
    let index = 0
    for await (const chunk of chunks) {
      if (!stream.write(Buffer.from(chunk.buffer, chunk.byteOffset, chunk.byteLength))) await once(stream, 'drain')
      loaded(chunk.byteLength, index++)
    }
    stream.end()
    await once(stream, 'finish')
  }
  try {
    await Promise.race([write(), failed])
  } catch (error) {
    stream.destroy(error as Error)
    throw error
  }
}
