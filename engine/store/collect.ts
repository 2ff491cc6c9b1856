import { sql } from 'kysely'
import type { CatalogDb } from '../catalog/connect'
import { inParts } from '../../core/grouped'
import type { ChunkPlace } from './index'

// What of a store's content is alive, which packs are to go, and when nobody can be about to refer to them any more. All
// of it is the catalog's; docs/decisions/0036 tells how the steps fit together.

/** How much of a pack something rests upon. */
export interface PackLife {
  id: string
  bytes: number
  /** Bytes of entries that something rests upon, and how many entries those are. */
  liveBytes: number
  live: number
  /** Of these, some can't be read. */
  isDamaged: boolean
  isCondemned: boolean
}

const MARKED_AT_ONCE = 5000
const LISTED_AT_ONCE = 5000
/** A writer of whom nothing was heard for so long can't commit what went meanwhile; it is not waited for. */
const SILENT_S = 120

/** A chunk of a pack that something rests upon. */
export interface LiveEntry extends ChunkPlace {
  name: Buffer
}

/** Of a chunk `c` that lies in several packs `p` the copy is alive that comes first: one that can be read, and stays, if any does. */
const ALIVE_FIRST = sql`c.damaged, p.condemned_by is not null, p.created_at, p.id`

/** What one prune finds out and does about the content of a store, in the catalog. */
export class Collection {
  constructor(
    private readonly db: CatalogDb,
    private readonly storeId: string,
    private readonly runId: string,
  ) {}

  /** Something rests upon these chunks, by their names in hexadecimal. */
  async mark(names: string[]): Promise<void> {
    for (const part of inParts(names, MARKED_AT_ONCE))
      await sql`insert into live_chunk (run_id, name) select ${this.runId}::uuid, name
        from unnest(${part.map((name) => Buffer.from(name, 'hex'))}::bytea[]) name on conflict do nothing`.execute(this.db)
  }

  /** And upon those that they are differences to. */
  async markBases(): Promise<void> {
    await sql`insert into live_chunk (run_id, name) select distinct ${this.runId}::uuid, base from chunk
      where store_id = ${this.storeId} and base is not null and exists (select from live_chunk live where live.run_id = ${this.runId}::uuid and live.name = chunk.name)
      on conflict do nothing`.execute(this.db)
  }

  /** Forgets what was marked, by this prune or by one that is over. */
  async forget(): Promise<void> {
    await sql`delete from live_chunk where run_id = ${this.runId}::uuid
      or not exists (select from run where run.id = run_id and run.state = 'running')`.execute(this.db)
  }

  /** All packs that the store has committed. */
  async packs(): Promise<PackLife[]> {
    const { rows } = await sql<PackLife>`
      with placed as (
        select c.pack_id, c.name, c.length, c.damaged, row_number() over (partition by c.name order by ${ALIVE_FIRST}) as place
        from chunk c join pack p on p.id = c.pack_id
        where c.store_id = ${this.storeId} and p.committed
          and exists (select from live_chunk live where live.run_id = ${this.runId}::uuid and live.name = c.name)),
      live as (select pack_id, sum(length)::float8 as bytes, count(*)::int as entries, bool_or(damaged) as damaged
        from placed where place = 1 group by pack_id)
      select p.id, p.bytes::float8 as bytes, coalesce(live.bytes, 0) as "liveBytes", coalesce(live.entries, 0) as live,
        coalesce(live.damaged, false) as "isDamaged", p.condemned_by is not null as "isCondemned"
      from pack p left join live on live.pack_id = p.id
      where p.store_id = ${this.storeId} and p.committed order by p.created_at, p.id`.execute(this.db)
    return rows
  }

  /** What is alive in a pack, part by part in the order in which it lies there; of a chunk that lies in several packs, only one. */
  async *liveIn(pack: string): AsyncGenerator<LiveEntry[]> {
    for (let after = -1; ;) {
      const { rows } = await sql<LiveEntry & { isAlive: boolean }>`
        with part as (select name, position from chunk where pack_id = ${pack} and position > ${after} order by position limit ${LISTED_AT_ONCE}),
          placed as (select c.*, row_number() over (partition by c.name order by ${ALIVE_FIRST}) as place
            from chunk c join pack p on p.id = c.pack_id
            where c.store_id = ${this.storeId} and p.committed and c.name in (select name from part)
              and exists (select from live_chunk live where live.run_id = ${this.runId}::uuid and live.name = c.name))
        select part.name, ${pack}::text as pack, part.position::float8 as position, placed.length, placed.plain_length as "plainLength", placed.base,
          placed.name is not null as "isAlive"
        from part left join placed on placed.name = part.name and placed.place = 1 and placed.pack_id = ${pack} and placed.position = part.position
        order by part.position`.execute(this.db)
      if (rows.length === 0) return
      after = rows.at(-1)!.position
      yield rows.filter(({ isAlive }) => isAlive)
    }
  }

  /** Nothing new may rest upon these packs from now on, and upon all others it may. Within a transaction that has locked content. */
  async condemn(tx: CatalogDb, packs: string[]): Promise<void> {
    await sql`update pack set condemned_by = case when id = any(${packs}::uuid[]) then ${this.runId}::uuid end,
      condemned_at = case when id = any(${packs}::uuid[]) then coalesce(condemned_at, now()) end
      where store_id = ${this.storeId} and (condemned_by is not null or id = any(${packs}::uuid[]))`.execute(tx)
  }

  /** Whoever may be about to refer to what is in the store, and lives. */
  async writers(): Promise<Set<string>> {
    const { rows } = await sql<{ id: string }>`select w.id from content_writer w left join run r on r.id = w.owner
      where w.store_id = ${this.storeId} and greatest(w.heard_at, case when r.state in ('waiting', 'running') then r.heartbeat_at end)
        > now() - make_interval(secs => ${SILENT_S})`.execute(this.db)
    return new Set(rows.map(({ id }) => id))
  }

  /** Removes packs from the index, unless somebody who commits has come to rest upon them. Within a transaction that has locked content. */
  async dropCondemned(tx: CatalogDb, packs: string[]): Promise<{ id: string; bytes: number }[]> {
    const { rows } = await sql<{ id: string; bytes: number }>`delete from pack
      where id = any(${packs}::uuid[]) and condemned_by = ${this.runId}::uuid returning id, bytes::float8 as bytes`.execute(tx)
    return rows
  }
}
