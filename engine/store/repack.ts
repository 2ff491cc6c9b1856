import { randomUUID } from 'node:crypto'
import type { Confirm } from './index'
import type { LiveEntry, PackLife } from './collect'
import { parseEntry } from './entry'
import { packPath, PackWriter, type WrittenPack } from './pack'
import type { Store } from './store'

/** Puts the living content of several packs into one, as it is sealed: nothing of it is opened. */
export class Repacking {
  constructor(
    private readonly store: Store,
    private readonly runId: string,
    private readonly confirm: Confirm,
  ) {}

  /**
   * Writes a pack with all that is alive in others, durable and known to the index for this run alone.
   *
   * @throws VesselError `store_full`, and `content_damaged` when something is not what the index says
   */
  async copy(packs: PackLife[], liveIn: (pack: string) => AsyncIterable<LiveEntry[]>): Promise<WrittenPack> {
    const id = randomUUID()
    await this.store.index.announced.add(packPath(id), this.runId)
    const writer = await PackWriter.open(this.store.backend, id)
    try {
      for (const { id: pack } of packs) for await (const part of liveIn(pack)) for (const entry of part) await this.append(writer, entry)
      const written = await writer.commit()
      await this.store.index.add(written, this.runId, this.confirm)
      return written
    } catch (error) {
      await writer.discard()
      throw error
    }
  }

  private async append(writer: PackWriter, { pack, name, position, length, plainLength, base }: LiveEntry): Promise<void> {
    const bytes = await this.store.backend.read(packPath(pack), position, length)
    const { codec, name: found } = parseEntry(bytes)
    if (!found.equals(name)) throw new Error(`${packPath(pack)} holds another chunk at byte ${position} than its index says`)
    await writer.appendMany([{ name, plainLength, codec, length, base }], bytes)
  }
}
