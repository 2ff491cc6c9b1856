import type { DatabaseManifest, FileEntry, VolumeManifest } from '../../core/content/manifest'
import { errorRecord } from '../../core/errors'
import { namesOf, pathOf } from '../../core/things/thing'
import type { Vessel } from '../catalog/vessels'
import { entriesOf } from '../look/cluster'
import type { Store } from '../store/store'
import type { RunContext } from './context'
import { newestManifest } from './manifests'

const UNCHANGED = 'telling what did not change'

/** What the newest point of a vessel holds of a source; it saves work, and a damaged one must not keep a new one from being made. */
export function earlierPoint(run: RunContext, store: Store, vessel: Vessel, source: string) {
  const newest = (member: string) => newestManifest(run.engine, store, vessel.id, pathOf(source, member))
  const attempt = async <T>(use: string, find: () => Promise<T | undefined>): Promise<T | undefined> => {
    try {
      return await find()
    } catch (error) {
      await run.say('warning', `The last point could not be used for ${use}: ${errorRecord(error).what}`)
      return undefined
    }
  }
  return {
    /** A database, to store changed content as differences. */
    database: (database: string): Promise<DatabaseManifest | undefined> =>
      attempt('differences', async () => (await newest(database))?.databases[0]),
    /** The files of a volume, to read only what changed. */
    files: (path: string): Promise<(() => AsyncIterable<FileEntry>) | undefined> =>
      attempt(UNCHANGED, async () => {
        const manifest = await newest(namesOf(path)[1]!)
        const volume = manifest?.namespaces?.[0]?.volumes.find((volume) => volume.path === path)
        return volume && volume.onlyAt === undefined ? () => asFarAsRead(volume) : undefined
      }),
  }

  /** What lies behind a damaged part of the list is read again. */
  async function* asFarAsRead(volume: VolumeManifest): AsyncGenerator<FileEntry> {
    const entries = entriesOf(store, volume)
    for (;;) {
      const next = await attempt(UNCHANGED, () => entries.next())
      if (!next || next.done) return
      yield next.value
    }
  }
}
