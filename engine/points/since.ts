import type { Manifest } from '../../core/content/manifest'
import { select } from '../../core/selection/rules'
import { changesSince, type ChangesSince } from '../../core/selection/since'
import { isSelectable, type Thing } from '../../core/things/thing'
import { lastPoint } from '../catalog/points'
import type { Vessel } from '../catalog/vessels'
import type { EngineContext } from '../context'
import { noRows, openPoint } from './open'

/** What changed in what a vessel takes since its newest backup; null when it has none yet. */
export async function changedSinceBackup(
  engine: EngineContext,
  vessel: Vessel,
): Promise<(ChangesSince & { point: string; at: Date }) | null> {
  const id = await lastPoint(engine, vessel.id)
  if (id === null) return null
  const [point, known] = await Promise.all([openPoint(engine, id, noRows), knownThings(engine)])
  const before = new Set(point.members.flatMap(({ manifest }) => pathsIn(manifest)))
  const unread = new Map(point.members.flatMap(({ manifest }) => unreadIn(manifest)).filter(([path]) => !before.has(path)))
  const present = known.filter(({ goneAt }) => goneAt === null)
  const there = new Map(known.map(({ path, goneAt }) => [path, goneAt === null]))
  const { taken } = select(vessel.definition.rules, present)
  const changes = changesSince(
    taken.filter(({ path }) => isSelectable(path)),
    before,
    unread,
    (path) => there.get(path),
  )
  return { ...changes, point: id, at: point.at }
}

function knownThings(engine: EngineContext): Promise<(Thing & { goneAt: Date | null })[]> {
  return engine.db.selectFrom('thing').select(['path', 'kind', 'labels', 'facts', 'gone_at as goneAt']).orderBy('path').execute()
}

function pathsIn({ databases, namespaces = [] }: Manifest): string[] {
  const held = [
    ...databases.flatMap(({ tables, others }) => [...tables, ...others]),
    ...namespaces.flatMap(({ objects, volumes }) => [
      ...objects.filter(({ wide }) => !wide),
      ...volumes.filter(({ onlyAt }) => onlyAt === undefined),
    ]),
  ]
  return held.map(({ path }) => path).filter(isSelectable)
}

function unreadIn({ databases, namespaces = [] }: Manifest): [string, string][] {
  const missing = [...databases, ...namespaces].flatMap((part) => part.missing)
  return missing.filter(({ note }) => !note).map(({ path, reason }) => [path, reason])
}
