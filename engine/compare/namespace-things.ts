import type { NamespaceManifest } from '../../core/content/manifest'
import { pathOf } from '../../core/things/thing'
import type { PointThing } from './contents'

/** A namespace of a point as a tree: volumes first, then its objects by kind; at last what it needs of the cluster. */
export function namespaceThings(source: string, { name, objects, volumes }: NamespaceManifest, present: Set<string> | null): PointThing[] {
  const there = (path: string) => (present ? present.has(path) : null)
  const root = pathOf(source, name)
  const things: PointThing[] = [{ path: root, kind: 'namespace', name, rows: null, bytes: null, there: there(root) }]
  const claims = new Map(objects.flatMap(({ kind, name, labels }) => (kind === 'PersistentVolumeClaim' ? [[name, labels] as const] : [])))
  for (const { path, claim, files, bytes, how, inUse, at } of volumes)
    things.push({
      path,
      kind: 'volume',
      name: claim,
      rows: files,
      bytes,
      there: there(path),
      labels: claims.get(claim) ?? {},
      read: { how, inUse: inUse ?? null, at },
    })
  const sorted = [...objects].sort(
    (a, b) => Number(a.wide ?? false) - Number(b.wide ?? false) || a.kind.localeCompare(b.kind) || a.name.localeCompare(b.name),
  )
  for (const { path, kind, name, bytes, labels } of sorted) things.push({ path, kind, name, rows: null, bytes, there: there(path), labels })
  return things
}
