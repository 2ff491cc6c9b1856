import type { ArtifactKind } from '../../core/chain/chain'
import { namesOfChunks } from '../../core/content/chunk-list'
import { inParts } from '../../core/grouped'
import type { LogManifest, NetManifest } from '../../core/changes/manifest'
import type { FileEntry, Manifest, NamespaceManifest } from '../../core/content/manifest'
import { pathOf } from '../../core/things/thing'
import type { Store } from '../store/store'
import { isOfContent } from '../store/damage'
import { chunksOfJson, readJson, readList } from '../store/json'

/** Something of a point or a log, and the names of all chunks that it rests upon. */
export interface Referred {
  path: string
  names: string[]
}

/**
 * All that one member of a point, or one segment of log, rests upon; its manifest first.
 *
 * @param isWhole a list that can't be read is an error: who asks what nothing rests upon must know all that something does
 */
export async function* referredByArtifact(
  store: Store,
  { kind, member, manifest }: { kind: ArtifactKind; member: string; manifest: string[] },
  isWhole = false,
): AsyncGenerator<Referred> {
  yield { path: member, names: await chunksOfJson(store, manifest, isWhole) }
  if (kind === 'log') yield { path: member, names: referredByLog(await readJson<LogManifest>(store, manifest)) }
  else if (kind === 'differential' || kind === 'incremental') yield* referredByNet(await readJson<NetManifest>(store, manifest))
  else yield* referredByFull(store, await readJson<Manifest>(store, manifest), isWhole)
}

/** What a full holds, thing by thing, a large one part by part. The manifests of volumes are read for it; one that can't be is told by its own chunks. */
export async function* referredByFull(
  store: Store,
  { member, databases, namespaces = [] }: Manifest,
  isWhole = false,
): AsyncGenerator<Referred> {
  for (const { tables, largeObjects } of databases)
    for (const { path, chunks } of [...tables, ...(largeObjects ? [largeObjects] : [])])
      for (const names of inParts(namesOfChunks(chunks), TOGETHER)) yield { path, names }
  for (const namespace of namespaces) {
    yield { path: pathOf(member, namespace.name), names: namespace.chunks }
    for (const volume of namespace.volumes) yield* referredByVolume(store, volume, isWhole)
  }
}

/** By and by: a volume may have millions of files. */
export async function* referredByVolume(
  store: Store,
  { path, entries, onlyAt }: NamespaceManifest['volumes'][number],
  isWhole = false,
): AsyncGenerator<Referred> {
  if (onlyAt !== undefined) return
  yield { path, names: await chunksOfJson(store, entries, isWhole) }
  try {
    let names: string[] = []
    for await (const { chunks = [] } of readList<FileEntry>(store, entries)) {
      names.push(...chunks)
      if (names.length < TOGETHER) continue
      yield { path, names }
      names = []
    }
    yield { path, names }
  } catch (error) {
    // That chunks of the list itself are lost was told.
    if (isWhole || !isOfContent(error)) throw error
  }
}

const TOGETHER = 10_000

/** What a differential or an incremental adds to its full: changes and structure under the path of the database. */
function referredByNet({ source, database, structure, changed, whole }: NetManifest): Referred[] {
  const content = { path: pathOf(source, database), names: [...structure, ...changed.flatMap(({ chunks }) => chunks)] }
  return [content, ...whole.map(({ path, chunks }) => ({ path, names: chunks.map(({ name }) => name) }))]
}

const referredByLog = ({ chunks, structure }: LogManifest): string[] => [...chunks.map(({ name }) => name), ...(structure?.chunks ?? [])]
