import type { Manifest, Missing, VolumeManifest } from '../../../core/content/manifest'
import { VesselError } from '../../../core/errors'
import { namesOf } from '../../../core/things/thing'
import { patiently } from '../../catalog/connect'
import { clusterAccessOf } from '../../catalog/sources'
import { openStore } from '../../catalog/stores'
import type { Vessel } from '../../catalog/vessels'
import type { Store } from '../../store/store'
import { ContentWriter } from '../../store/writer'
import { ApiFailure, ClusterClient, resourcePath, type KubeObject } from '../../sources/kubernetes/client'
import { contentOf, readVolume } from '../../sources/kubernetes/reader'
import { SNAPSHOT_GROUP } from '../../sources/kubernetes/storage'
import { countedBy } from '../../sources/kubernetes/taken-files'
import { willLeave } from './leftovers'
import { removeLeftOf, Temporary } from '../../sources/kubernetes/temporary'
import { claimOfSnapshot, readerPod } from '../../sources/kubernetes/volumes'
import type { RunContext } from '../context'
import { readManifest, writeJson } from '../../store/json'
import { piecesOf } from '../pieces'

interface Fetched {
  artifact: string
  manifest: Manifest
  names: string[]
  rows: number
  bytes: number
}

/** Reads into the store what a point has in one place only: snapshots at its source, which go then. */
export async function readLeft(run: RunContext, vessel: Vessel, { point }: { point: string }): Promise<void> {
  const { store_id: id, run_id: madeBy } = await run.engine.db
    .selectFrom('point')
    .select(['store_id', 'run_id'])
    .where('id', '=', point)
    .executeTakeFirstOrThrow()
  const store = await openStore(run.engine, { id })
  const writer = new ContentWriter(store, run.id, (tx) => run.confirm(tx))
  const artifacts = await run.engine.db
    .selectFrom('artifact')
    .innerJoin('point_artifact', 'point_artifact.artifact_id', 'artifact.id')
    .select(['artifact.id', 'artifact.manifest'])
    .where('point_artifact.point_id', '=', point)
    .execute()
  const fetched: Fetched[] = []
  try {
    for (const artifact of artifacts) {
      const manifest = await readManifest(store, artifact.manifest)
      if (!leftIn(manifest)) continue
      const whole = await fetchAll(run, writer, manifest)
      const [piece] = piecesOf(whole)
      fetched.push({
        artifact: artifact.id,
        manifest: whole,
        names: await writeJson(writer, whole),
        rows: piece!.rows,
        bytes: piece!.bytes,
      })
    }
    if (fetched.length === 0) throw nothingLeft()
    await writer.flush()
  } catch (error) {
    await writer.discard()
    throw error
  }
  await replace(run, store, writer, point, fetched)
  // What stayed there bears the run that made the point.
  for (const { manifest } of fetched)
    await clusterAccessOf(run.engine, manifest.member)
      .then((access) => ClusterClient.with(access, (client) => removeLeftOf(client, madeBy, true)))
      .catch((error: Error) => run.say('warning', `A snapshot could not be removed after reading: ${error.message}`))
  await run.end(run.warnings > 0 ? 'warned' : 'done', { outcome: { point, stored: writer.stored, vessel: vessel.slug } })
}

const leftIn = (manifest: Manifest) => (manifest.namespaces ?? []).some(({ volumes }) => volumes.some(({ onlyAt }) => onlyAt !== undefined))

async function fetchAll(run: RunContext, writer: ContentWriter, manifest: Manifest): Promise<Manifest> {
  const access = await clusterAccessOf(run.engine, manifest.member)
  const client = new ClusterClient(access)
  const temporary = new Temporary(client, await client.resources(), run.id, run.signal)
  const closing = await willLeave(run, manifest.member)
  try {
    const namespaces = []
    for (const namespace of manifest.namespaces!) {
      const volumes: VolumeManifest[] = []
      const unread: Missing[] = []
      for (const volume of namespace.volumes) {
        const [, place, , title] = namesOf(volume.path) as [string, string, string, string]
        if (volume.onlyAt === undefined) {
          volumes.push(volume)
          continue
        }
        const step = await run.plan({ kind: 'volume', member: `${manifest.member} / ${place}`, title })
        const { read, missing } = await run.step(step, (count) => fetchOne(run, client, temporary, writer, volume, count))
        volumes.push(read)
        unread.push(...missing)
      }
      const missing = namespace.missing.filter(({ onlyAt }) => onlyAt === undefined)
      namespaces.push({ ...namespace, volumes, missing: [...missing, ...unread] })
    }
    return { ...manifest, namespaces }
  } catch (error) {
    throw client.translate(error)
  } finally {
    await temporary.close(closing, (leftover) => run.say('warning', `It could not be removed after reading: ${leftover}`))
    client.close()
  }
}

async function fetchOne(
  run: RunContext,
  client: ClusterClient,
  temporary: Temporary,
  writer: ContentWriter,
  { onlyAt, ...volume }: VolumeManifest,
  count: (counter: string, by: number) => void,
): Promise<{ read: VolumeManifest; missing: Missing[] }> {
  const { path, folder = '', claim: name, storageClass: storageClassName, capacity: storage } = volume
  const [, namespace] = namesOf(path) as [string, string]
  const snapshots = temporary.resource('VolumeSnapshot', SNAPSHOT_GROUP)
  await client.ask(resourcePath(snapshots, namespace, onlyAt), { signal: run.signal }).catch((error: unknown) => {
    throw error instanceof ApiFailure && error.status === 404 ? snapshotGone(path, onlyAt!) : error
  })
  // The claim that it was taken of may be gone.
  const claim: KubeObject = {
    apiVersion: 'v1',
    kind: 'PersistentVolumeClaim',
    metadata: { name, namespace } as KubeObject['metadata'],
    spec: { accessModes: ['ReadWriteOnce'], storageClassName, resources: { requests: { storage } } },
  }
  const claimName = await claimOfSnapshot(temporary, { path, claim, snapshots: true }, { name: onlyAt!, at: volume.at })
  const target = await readerPod(client, temporary, { path, claim }, claimName)
  const content = await readVolume({ client, target, path, folder, writer, signal: run.signal, ...countedBy(run, count) })
  return { read: { ...volume, ...(await contentOf(content, writer)) }, missing: content.missing }
}

/** The point is what it was, and whole: its content is in the store before its record says so, and that before the catalog. */
async function replace(run: RunContext, store: Store, writer: ContentWriter, point: string, fetched: Fetched[]): Promise<void> {
  const { db } = run.engine
  const row = await db.selectFrom('point').select('missing').where('id', '=', point).executeTakeFirstOrThrow()
  const lacks = fetched.flatMap(({ manifest }) => manifest.namespaces!.flatMap(({ missing }) => missing))
  const before = row.missing.filter(({ path, onlyAt }) => onlyAt === undefined && !lacks.some((lack) => lack.path === path))
  const missing = [...before, ...lacks]
  const complete = missing.every(({ note }) => note)
  const record = await store.readPoint(point)
  const members = record.members.map((member) => {
    const found = fetched.find(({ artifact }) => artifact === member.artifact)
    return found ? { ...member, manifest: found.names, rows: found.rows, bytes: found.bytes } : member
  })
  await store.rewritePoint({ ...record, members, complete })
  const commit = db.transaction().execute(async (tx) => {
    await writer.commit(tx)
    for (const { artifact, names, rows, bytes } of fetched)
      await tx
        .updateTable('artifact')
        .set({ manifest: JSON.stringify(names), rows, bytes })
        .where('id', '=', artifact)
        .execute()
    await tx
      .updateTable('point')
      .set({ missing: JSON.stringify(missing), complete })
      .where('id', '=', point)
      .execute()
  })
  await commit.catch(async (error: unknown) => {
    const { artifact, names } = fetched[0]!
    const row = await patiently(() => db.selectFrom('artifact').select('manifest').where('id', '=', artifact).executeTakeFirst())
    if (row?.manifest.join() === names.join()) return
    await store.rewritePoint(record)
    await writer.discard()
    throw error
  })
}

const nothingLeft = () =>
  new VesselError('nothing_left', {
    what: 'All that this point has is in the store already.',
    touched: 'Nothing was changed.',
    next: 'There is nothing to do.',
    status: 409,
  })

const snapshotGone = (path: string, name: string) =>
  new VesselError('snapshot_gone', {
    what: `The snapshot ${name}, the one place that the data of ${path} was in, is not there any more.`,
    touched: 'The point is as it was; this volume can’t be restored from it.',
    next: 'Bring it back from another point.',
  })
