import type { DatabaseManifest, Manifest, NamespaceManifest, TableManifest } from '../../core/content/manifest'
import { VesselError } from '../../core/errors'
import { readRef } from '../../core/chain/moment-ref'
import { isWithin, pathOf } from '../../core/things/thing'
import { openStore } from '../catalog/stores'
import type { EngineContext } from '../context'
import { MomentStore } from '../log/moment-store'
import { openMoment, viewOfArtifact, type Readable } from '../log/moment'
import { readManifest } from '../store/json'
import type { Store } from '../store/store'

/** A recovery point, or any other moment of a vessel, as it can be read. */
export interface OpenPoint {
  id: string
  at: Date
  name: string | null
  vesselId: string
  store: Store
  members: { member: string; manifest: Manifest }[]
  /** Reckons the rows of more tables. Of stored fulls they are there. */
  ready(need: Need): Promise<void>
  /** The chunks in the store that the rows of a table rest upon. */
  restsUpon(table: TableManifest): string[]
}

/** Which tables' rows are wanted. Of a moment in a log the others have only their structure. */
export type Need = (path: string) => boolean

export const allRows: Need = () => true
export const noRows: Need = () => false
export const rowsOf =
  (...paths: string[]): Need =>
  (path) =>
    paths.includes(path)

/**
 * Opens a point by its id, or a moment by its reference (core/chain/moment-ref.ts): its store, and the manifest
 * of each member.
 */
export async function openPoint(engine: EngineContext, id: string, need: Need = allRows): Promise<OpenPoint> {
  const ref = readRef(id)
  return ref ? openMoment(engine, id, ref, need) : openStoredPoint(engine, id, need)
}

async function openStoredPoint(engine: EngineContext, id: string, need: Need): Promise<OpenPoint> {
  const point = await engine.db.selectFrom('point').selectAll().where('id', '=', id).executeTakeFirst()
  if (!point) {
    throw new VesselError('point_missing', {
      what: 'This recovery point does not exist any more.',
      touched: 'Nothing was changed.',
      next: 'Choose another one on the lifeline.',
      status: 404,
    })
  }
  const store = await openStore(engine, { id: point.store_id })
  const artifacts = await engine.db
    .selectFrom('artifact')
    .innerJoin('point_artifact', 'point_artifact.artifact_id', 'artifact.id')
    .select(['artifact.id', 'artifact.kind', 'artifact.manifest'])
    .where('point_artifact.point_id', '=', id)
    .orderBy('artifact.member')
    .execute()
  const opened = { id, at: point.at, name: point.name, vesselId: point.vessel_id }
  if (artifacts.every(({ kind }) => kind === 'full' || kind === 'synthetic')) {
    const manifests = await Promise.all(artifacts.map(({ manifest }) => readManifest(store, manifest)))
    return { ...opened, store, members: manifests.map(bySource), ready: async () => undefined, restsUpon: chunksOf }
  }
  const views = await Promise.all(artifacts.map((artifact) => viewOfArtifact(engine, store, point.vessel_id, artifact.id)))
  await readyAll(views, need)
  return {
    ...opened,
    store: MomentStore.together(views.map((view) => view.store)),
    members: views.map(({ manifest }) => bySource(manifest)),
    ready: (more) => readyAll(views, more),
    restsUpon: (table) => views.flatMap((view) => view.restsUpon(table)),
  }
}

export const chunksOf = ({ chunks }: Pick<TableManifest, 'chunks'>): string[] => chunks.map(({ name }) => name)

export async function readyAll(views: Readable[], need: Need): Promise<void> {
  for (const view of views) await view.ready(need)
}

/** The source is what paths begin with. */
export const bySource = (manifest: Manifest) => ({ member: manifest.member, manifest })

/** A namespace of a point that holds what is at a path. */
export function namespaceIn(point: OpenPoint, path: string): NamespaceManifest {
  for (const { member, manifest } of point.members) {
    const found = manifest.namespaces?.find(
      ({ name, objects }) => isWithin(path, pathOf(member, name)) || objects.some((object) => object.path === path),
    )
    if (found) return found
  }
  throw notIn(point, path)
}

/** A table of a point by its path. */
export function tableIn(point: OpenPoint, path: string): { table: TableManifest; database: DatabaseManifest; member: string } {
  for (const { member, manifest } of point.members) {
    for (const database of manifest.databases) {
      const table = database.tables.find((candidate) => candidate.path === path)
      if (table) return { table, database, member }
    }
  }
  throw notIn(point, path)
}

/** Why a thing is not in a point, as far as the point knows. */
export function notIn(point: OpenPoint, path: string): VesselError {
  const missing = point.members
    .flatMap(({ manifest }) => [...manifest.databases, ...(manifest.namespaces ?? [])].flatMap((place) => place.missing))
    .find((lack) => lack.path === path && !lack.note)
  return new VesselError('not_in_point', {
    what: missing ? `${path} can’t be read at this moment. ${missing.reason}` : `${path} is not in this point.`,
    touched: 'Nothing was changed.',
    next: missing ? 'Choose an earlier or a later moment.' : 'Choose something of its tree.',
    status: 404,
  })
}
