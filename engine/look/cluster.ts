import { Readable } from 'node:stream'
import { pack } from 'tar-stream'
import { stringify } from 'yaml'
import type { FileEntry, NamespaceManifest, VolumeManifest } from '../../core/content/manifest'
import type { ClusterObject } from '../../core/cluster/clean'
import { pickedOf } from '../../core/content/files'
import { withinAny } from '../../core/things/thing'
import { VesselError } from '../../core/errors'
import { namespaceIn, notIn, type OpenPoint } from '../points/open'
import { readList } from '../store/json'
import type { Store } from '../store/store'

/** Every object of a namespace, in the order of its entries. */
export async function objectsOf(store: Store, namespace: NamespaceManifest): Promise<ClusterObject[]> {
  const parts: Uint8Array[] = []
  for await (const bytes of store.readAll(namespace.chunks)) parts.push(bytes)
  const lines = Buffer.concat(parts).toString().split('\n').filter(Boolean)
  return lines.map((line) => JSON.parse(line) as ClusterObject)
}

/** The fields of a manifest in the order in which people write them. */
function ordered(object: Record<string, unknown>): Record<string, unknown> {
  const first = ['apiVersion', 'kind', 'metadata', 'spec']
  const rest = Object.keys(object).filter((field) => !first.includes(field))
  return Object.fromEntries([...first.filter((field) => field in object), ...rest].map((field) => [field, object[field]]))
}

export const yamlOf = (object: Record<string, unknown>) => stringify(ordered(object), { lineWidth: 0 })

/** One object as it is kept. */
export async function objectIn(point: OpenPoint, path: string): Promise<ClusterObject> {
  const namespace = namespaceIn(point, path)
  const entry = namespace.objects.find((object) => object.path === path)
  if (!entry) throw notIn(point, path)
  return (await objectsOf(point.store, namespace))[entry.line]!
}

/** One object as a manifest in YAML. */
export const objectYaml = async (point: OpenPoint, path: string): Promise<string> => yamlOf(await objectIn(point, path))

/** All objects of a namespace as one YAML bundle; what it needs of the cluster comes first. */
export async function namespaceYaml(point: OpenPoint, path: string): Promise<string> {
  const namespace = namespaceIn(point, path)
  const objects = await objectsOf(point.store, namespace)
  const entries = [...namespace.objects].sort((a, b) => Number(b.wide ?? false) - Number(a.wide ?? false))
  return entries.map(({ line }) => yamlOf(objects[line]!)).join('---\n')
}

export function volumeIn(point: OpenPoint, path: string): VolumeManifest {
  const found = namespaceIn(point, path).volumes.find((volume) => volume.path === path)
  if (!found) throw notIn(point, path)
  return found
}

/**
 * What a volume holds, in the order of the paths; it is not held as a whole.
 *
 * @param folder only what is in it, itself too; what lies beside it may come along
 * @throws VesselError one_place_only when it has not been read into the store yet
 */
export function entriesOf(store: Store, { path, onlyAt, entries }: VolumeManifest, folder = ''): AsyncGenerator<FileEntry> {
  if (onlyAt === undefined) return readList<FileEntry>(store, entries, folder === '' ? undefined : { from: folder, to: `${folder}0` })
  throw new VesselError('one_place_only', {
    what: `The data of ${path} is only at its source, in the snapshot ${onlyAt}.`,
    touched: 'Nothing was changed.',
    next: 'Read it into the store, on the lifeline; then it can be looked at and restored.',
    status: 409,
  })
}

export interface FolderLine {
  name: string
  type: FileEntry['type']
  /** Of a folder: of all files in it. */
  size: number
  files: number
  mtime: number
  mode: number
  target: string | null
}

/** What lies directly in a folder of a volume, folders first. */
export async function folderOf(point: OpenPoint, path: string, folder: string): Promise<FolderLine[]> {
  const prefix = folder === '' ? '' : `${folder}/`
  const lines = new Map<string, FolderLine>()
  for await (const { path: full, type, size, mtime, mode, target } of entriesOf(point.store, volumeIn(point, path), folder)) {
    if (full === '' || !full.startsWith(prefix) || full === folder) continue
    const [name, ...below] = full.slice(prefix.length).split('/') as [string, ...string[]]
    const line = lines.get(name) ?? { name, type: 'folder', size: 0, files: 0, mtime: 0, mode: 0o755, target: null }
    lines.set(name, line)
    if (below.length === 0) Object.assign(line, { type, mtime, mode, target: target ?? null })
    if (type === 'file') {
      line.size += size
      line.files++
    }
  }
  return [...lines.values()].sort((a, b) => Number(a.type !== 'folder') - Number(b.type !== 'folder') || a.name.localeCompare(b.name))
}

async function fileOf(point: OpenPoint, path: string, file: string): Promise<FileEntry> {
  for await (const entry of entriesOf(point.store, volumeIn(point, path), file))
    if (entry.path === file && entry.type === 'file') return entry
  throw new VesselError('not_in_point', {
    what: `There is no file ${file} in this volume at this moment.`,
    touched: 'Nothing was changed.',
    next: 'Choose one of its folders.',
    status: 404,
  })
}

/** The bytes of one file. */
export async function openFile(point: OpenPoint, path: string, file: string): Promise<{ entry: FileEntry; stream: Readable }> {
  const entry = await fileOf(point, path, file)
  return { entry, stream: Readable.from(point.store.readAll(entry.chunks ?? [])) }
}

const TAR: Record<FileEntry['type'], 'file' | 'directory' | 'symlink' | 'link' | 'fifo' | null> = {
  file: 'file',
  folder: 'directory',
  link: 'symlink',
  'hard-link': 'link',
  pipe: 'fifo',
  device: null,
}

/**
 * A volume, or files and folders of it, as a tar archive, with owners, modes and times as they were. A second name of a
 * file that is not picked itself comes as the file.
 */
export async function volumeTar(point: OpenPoint, path: string, picks: string[] = []): Promise<Readable> {
  const volume = volumeIn(point, path)
  const picked = () => (picks.length === 0 ? entriesOf(point.store, volume) : pickedOf(entriesOf(point.store, volume, only(picks)), picks))
  async function* own() {
    const files = picks.length === 0 ? new Map<string, FileEntry>() : await filesOutside(point.store, volume, picked(), picks)
    for await (const entry of picked()) {
      const file = entry.type === 'hard-link' ? files.get(entry.target ?? '') : undefined
      yield file ? { ...file, path: entry.path } : entry
    }
  }
  // What can't be read at all is said before anything was sent.
  const entries = own()
  const first = await entries.next()
  async function* all() {
    if (first.done) return
    yield first.value
    yield* entries
  }
  return tarOf(point.store, all())
}

const only = (picks: string[]) => (picks.length === 1 ? picks[0] : '')

/** Files that are not picked, and of which a picked entry is another name. */
async function filesOutside(store: Store, volume: VolumeManifest, picked: AsyncIterable<FileEntry>, picks: string[]) {
  const isPicked = withinAny(picks)
  const wanted = new Set<string>()
  for await (const { type, target } of picked) if (type === 'hard-link' && target && !isPicked(target)) wanted.add(target)
  const files = new Map<string, FileEntry>()
  if (wanted.size === 0) return files
  for await (const entry of entriesOf(store, volume)) if (wanted.has(entry.path)) files.set(entry.path, entry)
  return files
}

/** Entries whose content is read together; it is read ahead over all of them, because files may be smaller than it takes to ask for each. */
const TOGETHER = { entries: 2000, chunks: 4000 } as const

/** Entries of a volume with their content, which must be read in their order and whole. */
export async function* withContent(
  store: Store,
  entries: AsyncIterable<FileEntry>,
): AsyncGenerator<{ entry: FileEntry; content: AsyncIterable<Uint8Array> }> {
  let batch: FileEntry[] = []
  let chunks = 0
  for await (const entry of entries) {
    batch.push(entry)
    chunks += entry.chunks?.length ?? 0
    if (batch.length < TOGETHER.entries && chunks < TOGETHER.chunks) continue
    yield* contentOf(store, batch)
    ;[batch, chunks] = [[], 0]
  }
  yield* contentOf(store, batch)
}

async function* contentOf(store: Store, entries: FileEntry[]): AsyncGenerator<{ entry: FileEntry; content: AsyncIterable<Uint8Array> }> {
  const all = store.readAll(entries.flatMap(({ chunks }) => chunks ?? []))
  async function* next(chunks: number) {
    for (let remaining = chunks; remaining > 0; remaining--) yield (await all.next()).value as Uint8Array
  }
  try {
    for (const entry of entries) yield { entry, content: next(entry.chunks?.length ?? 0) }
  } finally {
    await all.return(undefined)
  }
}

/** Files and folders as a tar archive; `packed` is told of files and of bytes as they go into it. */
export function tarOf(
  store: Store,
  entries: AsyncIterable<FileEntry>,
  packed: (files: number, bytes: number) => void = () => undefined,
): Readable {
  const archive = pack()
  const write = async () => {
    for await (const { entry, content } of withContent(store, entries)) {
      const type = TAR[entry.type]
      if (!type) continue
      const { mode, uid, gid, size, target } = entry
      const header = {
        name: entry.path || '.',
        type,
        mode,
        uid,
        gid,
        mtime: new Date(entry.mtime),
        // The header itself knows seconds only.
        ...(entry.mtime % 1000 === 0 ? {} : { pax: { mtime: (entry.mtime / 1000).toFixed(3) } }),
        size,
        ...(target ? { linkname: target } : {}),
      }
      const out = archive.entry(header)
      for await (const bytes of content) {
        if (!out.write(bytes)) await new Promise((resolve) => out.once('drain', resolve))
        packed(0, bytes.length)
      }
      out.end()
      if (entry.type === 'file') packed(1, 0)
    }
    archive.finalize()
  }
  write().catch((error: Error) => archive.destroy(error))
  return archive as unknown as Readable
}
