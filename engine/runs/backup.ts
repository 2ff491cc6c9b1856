import { randomUUID } from 'node:crypto'
import type { DatabaseManifest, Manifest, Missing, PointRecord } from '../../core/content/manifest'
import { errorRecord, VesselError } from '../../core/errors'
import { takesFrom } from '../../core/selection/rules'
import { isSelectable } from '../../core/things/thing'
import { openSource } from '../catalog/sources'
import { openStore } from '../catalog/stores'
import type { Vessel } from '../catalog/vessels'
import { ContentWriter } from '../store/writer'
import type { Store } from '../store/store'
import type { RunContext } from './context'
import { commitPoint, newestManifest, writeManifest, type FinishedMember } from './manifests'

/** A full backup of a vessel: every source it takes from, and one recovery point of them all. */
export async function backup(run: RunContext, vessel: Vessel, details: { name: string | null; comment: string | null }): Promise<void> {
  const store = await openStore(run.engine, { name: vessel.definition.store })
  const writer = new ContentWriter(store, run.id)
  const pointId = randomUUID()
  try {
    const members = await captureMembers(run, vessel, store, writer)
    const missing = members.flatMap((member) => member.manifest.databases.flatMap((database) => database.missing))
    if (members.every((member) => member.manifest.databases.every(isEmpty))) throw nothingTaken(missing)
    const last = await run.plan({ kind: 'manifest', member: '', title: 'Manifest' })
    await run.step(last, async () => {
      const record = pointRecord(
        run,
        vessel,
        pointId,
        members,
        missing.every(({ note }) => note),
        details,
      )
      await commitPoint(run.engine, store, writer, record, members, { keptFor: null, missing })
    })
    await run.end(run.warnings > 0 ? 'warned' : 'done', {
      outcome: { point: pointId, missing: missing.filter(({ note }) => !note).length, stored: writer.stored },
    })
  } catch (error) {
    await writer.discard()
    await store.removePoint(pointId)
    throw error
  }
}

function nothingTaken(missing: Missing[]): VesselError {
  const first = missing[0]
  return new VesselError('nothing_taken', {
    what: first ? `Nothing could be captured. ${first.path}: ${first.reason}` : 'The rules of this vessel take nothing that exists now.',
    touched: 'No point was made, and nothing was stored. Earlier points are untouched.',
    next: first ? 'Mend this at the source, then run it again.' : 'Look at What in its definition.',
  })
}

async function captureMembers(run: RunContext, vessel: Vessel, store: Store, writer: ContentWriter): Promise<FinishedMember[]> {
  const sources = await run.engine.db.selectFrom('source').select('name').orderBy('name').execute()
  const names = sources.map(({ name }) => name).filter((name) => takesFrom(vessel.definition.rules, name))
  const members: FinishedMember[] = []
  for (const name of names) {
    const { id: sourceId, source } = await openSource(run.engine, name)
    const before = writer.stored
    const earlier = await newestManifest(run.engine, store, vessel.id, name).catch(async (error: unknown) => {
      // Differences only save space; a damaged earlier point must not keep a new one from being made.
      await run.say('warning', `The last point could not be used for differences: ${errorRecord(error).what}`)
      return undefined
    })
    const manifest = await source.capture({
      progress: run,
      rules: vessel.definition.rules,
      readers: vessel.definition.readers,
      writer,
      earlier,
    })
    members.push({
      artifact: randomUUID(),
      sourceId,
      manifest,
      names: await writeManifest(writer, manifest),
      stored: writer.stored - before,
    })
  }
  return members
}

const isEmpty = ({ tables, others, largeObjects }: DatabaseManifest) =>
  tables.length === 0 && !others.some(({ path }) => isSelectable(path)) && !largeObjects

function pointRecord(
  run: RunContext,
  vessel: Vessel,
  id: string,
  members: FinishedMember[],
  complete: boolean,
  details: { name: string | null; comment: string | null },
): PointRecord {
  const sum = (manifest: Manifest, field: 'rows' | 'bytes') =>
    manifest.databases.reduce((all, database) => all + database.tables.reduce((part, table) => part + table[field], 0), 0)
  return {
    format: 1,
    id,
    vessel: { id: vessel.id, name: vessel.name, version: vessel.version, definition: vessel.definition },
    run: run.id,
    at: run.engine.clock.now().toISOString(),
    ...details,
    consistency: 'each sound',
    complete,
    members: members.map(({ artifact, manifest, names }) => ({
      member: manifest.member,
      artifact,
      kind: 'full',
      position: manifest.databases.at(-1)?.position ?? '',
      rows: sum(manifest, 'rows'),
      bytes: sum(manifest, 'bytes'),
      manifest: names,
    })),
  }
}
