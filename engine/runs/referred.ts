import type { LogManifest, NetManifest } from '../../core/changes/manifest'
import type { FileEntry, Manifest, NamespaceManifest } from '../../core/content/manifest'
import { pathOf } from '../../core/things/thing'
import type { Store } from '../store/store'
import { readJson } from './manifests'

/** Something of a point or a log, and the names of all chunks that it rests upon. */
export interface Referred {
  path: string
  names: string[]
}

/** What a full holds, thing by thing. The manifests of volumes are read for it; one that can't be is told by its own chunks. */
export async function* referredByFull(store: Store, { member, databases, namespaces = [] }: Manifest): AsyncGenerator<Referred> {
  for (const { tables, largeObjects } of databases)
    for (const { path, chunks } of [...tables, ...(largeObjects ? [largeObjects] : [])])
      yield { path, names: chunks.map(({ name }) => name) }
  for (const namespace of namespaces) {
    yield { path: pathOf(member, namespace.name), names: namespace.chunks }
    for (const volume of namespace.volumes) yield await referredByVolume(store, volume)
  }
}

export async function referredByVolume(store: Store, { path, entries, onlyAt }: NamespaceManifest['volumes'][number]): Promise<Referred> {
  if (onlyAt !== undefined) return { path, names: [] }
  const files = await readJson<FileEntry[]>(store, entries).catch(() => [])
  return { path, names: [...entries, ...files.flatMap(({ chunks = [] }) => chunks)] }
}

/** What a differential or an incremental adds to its full: changes and structure under the path of the database. */
export function referredByNet({ source, database, structure, changed, whole }: NetManifest): Referred[] {
  const own = { path: pathOf(source, database), names: [...structure, ...changed.flatMap(({ chunks }) => chunks)] }
  return [own, ...whole.map(({ path, chunks }) => ({ path, names: chunks.map(({ name }) => name) }))]
}

export const referredByLog = ({ chunks, structure }: LogManifest): string[] => [
  ...chunks.map(({ name }) => name),
  ...(structure?.chunks ?? []),
]
