import { createHash } from 'node:crypto'
import { canonical, cleaned } from '../../../core/cluster/clean'
import { ByteChunker } from '../../../core/content/bytes'
import type { ObjectEntry } from '../../../core/content/manifest'
import { CLUSTER_WIDE, namesOf, type Thing } from '../../../core/things/thing'
import type { Sink } from '../../store/writer'
import type { Found, Survey } from './discover'

/**
 * Keeps objects, and what they need of the cluster, as lines of canonical JSON. A need that a rule leaves out is not kept,
 * nor what only it needs; its path is told.
 */
export async function keepObjects(
  seen: Survey & { things: Thing[]; left: ReadonlySet<string> },
  taken: string[],
  writer: Sink,
): Promise<{ entries: ObjectEntry[]; chunks: string[]; leftOut: string[] }> {
  const paths = new Set(taken)
  const byPath = new Map(seen.found.map((object) => [object.path, object]))
  const facts = new Map(seen.things.map((thing) => [thing.path, thing.facts]))
  const wide = new Set<string>()
  const leftOut = new Set<string>()
  const follow = (path: string) => {
    for (const used of facts.get(path)?.uses ?? []) {
      if (namesOf(used)[1] !== CLUSTER_WIDE || wide.has(used) || paths.has(used)) continue
      if (seen.left.has(used)) {
        leftOut.add(used)
        continue
      }
      wide.add(used)
      follow(used)
    }
  }
  for (const path of paths) follow(path)
  const entries: ObjectEntry[] = []
  const chunker = new ByteChunker()
  const chunks: string[] = []
  const put = async (bytes: Uint8Array<ArrayBuffer>) => chunks.push((await writer.put(bytes)).name)
  for (const path of [...paths, ...wide].sort()) {
    const found = byPath.get(path)!
    const text = canonical(cleaned(found.object))
    entries.push(entryOf(found, text, entries.length, facts.get(path)?.uses ?? [], wide.has(path)))
    for (const chunk of chunker.push(Buffer.from(`${text}\n`))) await put(chunk)
  }
  const last = chunker.end()
  if (last) await put(last)
  return { entries, chunks, leftOut: [...leftOut].sort() }
}

function entryOf({ object, path, resource }: Found, text: string, line: number, uses: string[], wide: boolean): ObjectEntry {
  return {
    path,
    group: resource.group,
    version: resource.version,
    kind: resource.kind,
    name: object.metadata.name,
    labels: object.metadata.labels ?? {},
    digest: createHash('sha256').update(text).digest('hex'),
    bytes: Buffer.byteLength(text),
    line,
    uses,
    ...(wide ? { wide } : {}),
  }
}
