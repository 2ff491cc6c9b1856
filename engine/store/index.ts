import { sql, type OrderByItemBuilder } from 'kysely'
import { VesselError } from '../../core/errors'
import type { CatalogDb } from '../catalog/connect'
import { AnnouncedFiles } from './announced'
import { packPath, type PackEntry, type WrittenPack } from './pack'
import { pointPath, segmentPath } from './records'

/** Where a chunk lies. */
export interface ChunkPlace {
  pack: string
  position: number
  length: number
  plainLength: number
  base: Buffer | null
}

const ASKED_AT_ONCE = 5000
/** By which commits of content, and what takes content away, exclude each other. */
const CONTENT_LOCK = 0x7e55e1
const ASC_NULLS_FIRST = (order: OrderByItemBuilder) => order.asc().nullsFirst()
const DESC_NULLS_LAST = (order: OrderByItemBuilder) => order.desc().nullsLast()
/** Whoever wrote a pack that was found again is not known any more. */
const NO_RUN = '00000000-0000-0000-0000-000000000000'

const PATHS = { packs: packPath, points: pointPath, segments: segmentPath }
export type FileKind = keyof typeof PATHS

const PLACE = ['chunk.pack_id', 'chunk.position', 'chunk.length', 'chunk.plain_length', 'chunk.base'] as const
interface PlaceRow {
  pack_id: string
  position: string | number
  length: number
  plain_length: number
  base: Buffer | null
}
const placeOf = (row: PlaceRow): ChunkPlace => ({
  pack: row.pack_id,
  position: Number(row.position),
  length: row.length,
  plainLength: row.plain_length,
  base: row.base,
})

/** Within a transaction: throws when what is written for is not the writer's any more. */
export type Confirm = (tx: CatalogDb) => Promise<void>

/** Packs that what a run makes rests upon: those that it wrote, and earlier ones. */
export interface UsedPacks {
  written: ReadonlySet<string>
  referred: ReadonlySet<string>
}

const contentGone = () =>
  new VesselError('content_gone', {
    what: 'Content that this run has written or refers to is not in the store any more.',
    touched: 'No point was made. Earlier points are untouched.',
    next: 'Start it again, and verify the store.',
  })

/** The index of a store's chunks, in the catalog. It can be rebuilt from the packs. */
export class ChunkIndex {
  /** Files that are about to be written. */
  readonly announced: AnnouncedFiles

  constructor(
    private readonly db: CatalogDb,
    readonly storeId: string,
  ) {
    this.announced = new AnnouncedFiles(db, storeId)
  }

  /** Chunks of this store in committed packs, and those in packs of a run. */
  private referable(runId: string | null) {
    return this.db
      .selectFrom('chunk')
      .innerJoin('pack', 'pack.id', 'chunk.pack_id')
      .where('chunk.store_id', '=', this.storeId)
      .where((eb) => eb.or([eb('pack.committed', '=', true), ...(runId ? [eb('pack.run_id', '=', runId)] : [])]))
  }

  /** Place of a chunk in a committed pack, or in one of this run; where it is damaged in one of several, another one. */
  async find(name: Uint8Array, runId: string | null): Promise<ChunkPlace | undefined> {
    const row = await this.named(name, runId).orderBy('chunk.damaged').orderBy('pack.condemned_at', ASC_NULLS_FIRST).executeTakeFirst()
    return row && placeOf(row)
  }

  /** The same of a chunk that something new may rest upon: one that is damaged, or is to go, is stored anew. */
  async findSound(name: Uint8Array, runId: string | null): Promise<ChunkPlace | undefined> {
    const row = await this.named(name, runId).where('chunk.damaged', '=', false).where('pack.condemned_by', 'is', null).executeTakeFirst()
    return row && placeOf(row)
  }

  private named(name: Uint8Array, runId: string | null) {
    return this.referable(runId).select(PLACE).where('chunk.name', '=', Buffer.from(name)).limit(1)
  }

  /** Places of many chunks in committed packs, by their names in hexadecimal; what has none is not among them. */
  async places(names: string[]): Promise<Map<string, ChunkPlace>> {
    const all = names.map((name) => Buffer.from(name, 'hex'))
    const rows = await this.referable(null)
      .select(['chunk.name', ...PLACE])
      .where((eb) => eb('chunk.name', '=', eb.fn.any(eb.val(all))))
      // The last one stands.
      .orderBy('chunk.damaged', 'desc')
      .orderBy('pack.condemned_at', DESC_NULLS_LAST)
      .execute()
    return new Map(rows.map((row) => [row.name.toString('hex'), placeOf(row)]))
  }

  /** Which of many chunks may be referred to: by their names in hexadecimal, the packs that hold them. */
  async known(names: Buffer[], runId: string): Promise<Map<string, string>> {
    const rows = await this.referable(runId)
      .select(['chunk.name', 'chunk.pack_id'])
      .where('chunk.damaged', '=', false)
      .where('pack.condemned_by', 'is', null)
      .where((eb) => eb('chunk.name', '=', eb.fn.any(eb.val(names))))
      .execute()
    return new Map(rows.map(({ name, pack_id: pack }) => [name.toString('hex'), pack]))
  }

  /**
   * Registers a durable pack of a run; others may not use it until the run commits.
   *
   * @param confirm throws when the run is not the writer's any more
   */
  async add(pack: WrittenPack, runId: string, confirm: Confirm): Promise<void> {
    await this.insert(pack, { run_id: runId, committed: false }, confirm)
  }

  /** Puts a pack that lies in the store back into the index. */
  async addAnew(pack: WrittenPack): Promise<void> {
    await this.insert(pack, { run_id: NO_RUN, committed: true }, async () => undefined)
  }

  /**
   * Paths of files of a kind that the catalog knows, or that are announced. Both at one moment: what is announced becomes
   * known in the transaction that takes the announcement back.
   */
  async knownPaths(kind: FileKind): Promise<Set<string>> {
    const counts = {
      packs: sql`select id from pack where store_id = ${this.storeId}`,
      points: sql`select id from point where store_id = ${this.storeId}`,
      segments: sql`select id from artifact where store_id = ${this.storeId} and kind = 'log'`,
    }
    const { rows } = await sql<{ id: string | null; path: string | null }>`select id::text, null as path from (${counts[kind]}) own
      union all select null, path from announced_file where store_id = ${this.storeId}`.execute(this.db)
    return new Set(rows.map(({ id, path }) => path ?? PATHS[kind](id!)))
  }

  private async insert(pack: WrittenPack, of: { run_id: string; committed: boolean }, confirm: Confirm): Promise<void> {
    await this.db.transaction().execute(async (tx) => {
      await confirm(tx)
      await this.announced.settle([pack.path], tx)
      await tx
        .insertInto('pack')
        .values({
          id: pack.id,
          store_id: this.storeId,
          ...of,
          bytes: pack.bytes,
          entries: pack.entries.length,
          created_at: new Date(),
        })
        .execute()
      // As arrays: values of their own would be parameters by the thousand, and cost more than what they insert.
      const column = <K extends keyof PackEntry>(name: K) => pack.entries.map((entry) => entry[name])
      await sql`
        insert into chunk (store_id, pack_id, name, position, length, plain_length, base)
        select ${this.storeId}, ${pack.id}, * from unnest(
          ${column('name')}::bytea[], ${column('position')}::bigint[], ${column('length')}::integer[],
          ${column('plainLength')}::integer[], ${column('base')}::bytea[]
        )`.execute(tx)
    })
  }

  /**
   * Commits what a run has written, if all of it, and all that it refers to besides, is there. What it refers to and was
   * condemned meanwhile is condemned no more; nothing is condemned, and nothing goes, while it is asked.
   *
   * @throws VesselError `content_gone`
   */
  async commit(tx: CatalogDb, runId: string, { written, referred }: UsedPacks): Promise<void> {
    await sql`select pg_advisory_xact_lock_shared(${CONTENT_LOCK}, hashtext(${this.storeId}))`.execute(tx)
    await sql`update pack set committed = true
      where store_id = ${this.storeId} and run_id = ${runId} and id = any(${[...written]}::uuid[])`.execute(tx)
    await sql`update pack set condemned_by = null, condemned_at = null where id in (
      select id from pack where id = any(${[...referred]}::uuid[]) and condemned_by is not null order by id for update)`.execute(tx)
    const needed = [...new Set([...written, ...referred])]
    const { rows } = await sql<{ id: string }>`select id from pack
      where store_id = ${this.storeId} and committed and id = any(${needed}::uuid[])`.execute(tx)
    if (rows.length !== needed.length) throw contentGone()
  }

  /** Within a transaction: nobody commits content, and nobody else condemns any, until it ends. */
  async lockContent(tx: CatalogDb): Promise<void> {
    await sql`select pg_advisory_xact_lock(${CONTENT_LOCK}, hashtext(${this.storeId}))`.execute(tx)
  }

  /** From now on somebody may be about to refer to what is in the store. @param owner a run, or a segment of log */
  async writerBegins(id: string, owner: string): Promise<void> {
    await this.db.insertInto('content_writer').values({ id, store_id: this.storeId, owner }).execute()
  }

  async writerEnds(id: string, db: CatalogDb = this.db): Promise<void> {
    await db.deleteFrom('content_writer').where('id', '=', id).execute()
  }

  /** Files of a run, or of a segment of log, that are in no point and in no log. */
  async uncommitted(runId: string): Promise<string[]> {
    const rows = await this.uncommittedPacks(runId).execute()
    return [...rows.map(({ id }) => packPath(id)), ...(await this.announced.of(runId))]
  }

  private uncommittedPacks(runId: string) {
    return this.db
      .selectFrom('pack')
      .select('id')
      .where('run_id', '=', runId)
      .where('store_id', '=', this.storeId)
      .where('committed', '=', false)
  }

  /** What is written for a segment of log belongs to no run that could be asked whether it is at work. */
  async isStillWritten(runId: string): Promise<void> {
    await this.announced.touch(runId)
    await this.db
      .updateTable('pack')
      .set({ created_at: sql`now()` })
      .where('id', 'in', this.uncommittedPacks(runId))
      .execute()
    await this.db
      .updateTable('content_writer')
      .set({ heard_at: sql`now()` })
      .where('owner', '=', runId)
      .execute()
  }

  /** Forgets what of these was not committed; its files are gone. */
  async forget(runId: string, paths: string[]): Promise<void> {
    await this.db.deleteFrom('pack').where('id', 'in', this.uncommittedPacks(runId)).execute()
    await this.announced.settle(paths)
    await this.db.deleteFrom('content_writer').where('owner', '=', runId).where('store_id', '=', this.storeId).execute()
  }

  /** Marks the chunks of a pack that can't be read, and those that can be read again as sound. */
  async mark(packId: string, damaged: Buffer[]): Promise<void> {
    await sql`update chunk set damaged = not damaged where pack_id = ${packId} and damaged <> (name = any(${damaged}::bytea[]))`.execute(
      this.db,
    )
  }

  /** Whether anything of the store is known not to be readable. */
  async hasDamage(): Promise<boolean> {
    const { rows } = await sql<{ found: boolean }>`select exists (select from chunk where store_id = ${this.storeId} and damaged)
      or exists (select from point where store_id = ${this.storeId} and damage is not null) as found`.execute(this.db)
    return rows[0]!.found
  }

  /** How many of many chunks, by their names in hexadecimal, are in no committed pack or damaged wherever they are. */
  async lost(names: string[]): Promise<number> {
    let lost = 0
    for (let from = 0; from < names.length; from += ASKED_AT_ONCE) {
      const part = [...new Set(names.slice(from, from + ASKED_AT_ONCE))].map((name) => Buffer.from(name, 'hex'))
      const { rows } = await sql<{ lost: number }>`select count(*)::int as lost from unnest(${part}::bytea[]) n (name) where not exists (
        select from chunk join pack on pack.id = chunk.pack_id
        where chunk.store_id = ${this.storeId} and chunk.name = n.name and pack.committed and not chunk.damaged)`.execute(this.db)
      lost += rows[0]!.lost
    }
    return lost
  }

  packs(): Promise<{ id: string; bytes: number }[]> {
    return this.db
      .selectFrom('pack')
      .select(['id', 'bytes'])
      .where('store_id', '=', this.storeId)
      .where('committed', '=', true)
      .orderBy('created_at')
      .execute()
      .then((rows) => rows.map((row) => ({ id: row.id, bytes: Number(row.bytes) })))
  }

  async entriesOf(packId: string): Promise<(ChunkPlace & { name: Buffer })[]> {
    const rows = await this.db.selectFrom('chunk').selectAll().where('pack_id', '=', packId).orderBy('position').execute()
    return rows.map((row) => ({ ...placeOf(row), name: row.name }))
  }
}
