import type { DatabaseManifest } from '../../core/content/manifest'
import { definitionKey } from '../../core/restore/target'
import type { EngineContext } from '../context'
import { noRows, openPoint, type OpenPoint } from './open'

/**
 * Points that one restore kept, as one: each of them holds a part of what stood there before that restore. The structure
 * and the sequences are those of the first, when nothing was overwritten yet.
 *
 * @param ids the one that was kept first comes first; all of them are stored fulls in the same store
 */
export async function openTogether(engine: EngineContext, ids: string[]): Promise<OpenPoint> {
  const points: OpenPoint[] = []
  for (const id of ids) points.push(await openPoint(engine, id, noRows))
  const members = new Map<string, OpenPoint['members'][number]>()
  for (const { member, manifest } of points.flatMap((point) => point.members)) {
    const key = JSON.stringify([member, ...manifest.databases.map(({ name }) => name)])
    const before = members.get(key)
    const databases = manifest.databases.map((database, i) => (before ? joined(before.manifest.databases[i]!, database) : database))
    members.set(key, { member, manifest: { ...manifest, databases } })
  }
  return { ...points[0]!, members: [...members.values()] }
}

function joined(first: DatabaseManifest, next: DatabaseManifest): DatabaseManifest {
  // Large objects are kept without a structure, which tells nothing of them.
  if (first.entries.length === 0) return { ...next, largeObjects: first.largeObjects ?? next.largeObjects }
  const ids = new Map(first.entries.map((entry) => [definitionKey(entry), entry.id]))
  const keys = new Map(next.entries.map((entry) => [entry.id, definitionKey(entry)]))
  const others = next.others.flatMap((other) => {
    const entry = ids.get(keys.get(other.entry) ?? '')
    return entry === undefined ? [] : [{ ...other, entry }]
  })
  return {
    ...first,
    tables: withoutTwins([...first.tables, ...next.tables]),
    others: withoutTwins([...first.others, ...others]),
    missing: [...first.missing, ...next.missing],
    largeObjects: first.largeObjects ?? next.largeObjects,
    ...(first.properties || next.properties ? { properties: first.properties ?? next.properties } : {}),
  }
}

const withoutTwins = <T extends { path: string }>(all: T[]): T[] =>
  [...new Map([...all].reverse().map((thing) => [thing.path, thing])).values()].reverse()
