import type pg from 'pg'
import type { DatabaseManifest, OtherThing } from '../../core/content/manifest'
import { droppedBy } from '../../core/restore/drop'
import { othersOf } from '../../core/restore/kinds'
import { identifierOf, qualified, tokensOf } from '../../core/restore/sql'
import { isTableEntry, type StructureEntry } from '../../core/restore/structure'
import { placeOf, wishOf, type Wish } from '../../core/restore/wish'
import { isLargeObjects, largeObjectsPath, lastName, namesOf, pathOf } from '../../core/things/thing'
import { plural } from '../../core/time/words'
import { accessOf } from '../catalog/sources'
import type { EngineContext } from '../context'
import type { Vessel } from '../catalog/vessels'
import { commitSurely } from '../sources/postgres/commit'
import { EntryWriter, type Writing } from '../sources/postgres/write-entry'
import { withClient, type PostgresAccess } from '../sources/postgres/connect'
import { silence } from '../sources/postgres/event-triggers'
import { untilGiven } from '../sources/postgres/locks'
import { attempt } from '../sources/postgres/refill'
import { readStructure } from '../sources/postgres/utilities'
import type { Store } from '../store/store'
import type { RunContext } from './context'
import { keepOverwritten } from './keep'
import type { Receipts } from './receipts'

/** A thing that an earlier restore made, as it stands now. */
interface Made {
  path: string
  name: string
  kind: string
  entry: StructureEntry
}

/**
 * Takes back what a restore made where nothing stood: what is still there is kept as a point, then dropped in one
 * transaction, the last first. What something else needs by now stays.
 */
export class Unmaking {
  /** What was told already, so that it is not told once more at the end. */
  private readonly settled = new Set<string>()
  private readonly source: string
  private readonly database: string

  /** @param paths things of the database at `place`, as the earlier restore's receipt names them */
  constructor(
    private readonly run: RunContext,
    private readonly vessel: Vessel,
    private readonly store: Store,
    private readonly before: DatabaseManifest,
    place: string,
    private readonly paths: string[],
    /** Numbers of large objects that it put where none was. */
    private readonly largeObjects: number[],
    private readonly writing: Writing,
    private readonly days: number,
    private readonly receipts: Receipts,
  ) {
    const [source, database] = namesOf(place)
    this.source = source!
    this.database = database!
  }

  /** @param last nothing comes after it, so that what could not be dropped is told */
  async go(last: boolean): Promise<void> {
    const access = await accessOf(this.run.engine, this.source)
    await withClient(access, this.database, async (client) => {
      const entries = await readStructure(access, this.database, client, { signal: this.run.signal })
      const due = this.madeOf(entries)
      if (due.length > 0) await untilGiven(() => this.dropOnce(client, access, entries, due, last))
      if (last && this.largeObjects.length > 0) await this.unlink(client, access)
    })
  }

  /** Large objects that are still there, kept and taken away in one transaction. */
  private async unlink(client: pg.Client, access: PostgresAccess & { id: string }): Promise<void> {
    const path = largeObjectsPath(this.source, this.database)
    const { rows } = await client.query<{ oid: number }>(
      `select oid::int from pg_catalog.pg_largeobject_metadata where oid::int = any ($1::int[])`,
      [this.largeObjects],
    )
    if (rows.length === 0) return
    await this.inTransaction(client, access, async () => {
      const into = { access, database: this.database, before: this.before, days: this.days }
      await keepOverwritten(this.run, this.vessel, this.store, client, into, { largeObjects: rows.map(({ oid }) => oid) }, [])
      await client.query('select lo_unlink(oid::oid) from unnest($1::int[]) oid', [rows.map(({ oid }) => oid)])
    })
    this.gone({ path, name: lastName(path) })
  }

  private async inTransaction(client: pg.Client, access: PostgresAccess, work: () => Promise<void>): Promise<void> {
    await client.query('begin')
    try {
      const restore = await silence(client)
      await work()
      await restore()
      await commitSurely(client, { access, database: this.database, confirm: () => this.run.confirm() })
    } catch (error) {
      await client.query('rollback').catch(() => undefined)
      throw error
    }
  }

  /** Things of the structure of now that an earlier restore made, in the order of their making. */
  private madeOf(entries: StructureEntry[]): Made[] {
    const wanted = new Set(this.paths.filter((path) => !this.settled.has(path)))
    const others = new Map(othersOf(entries, this.source, this.database, new Set()).map((other) => [other.entry, other]))
    return entries.flatMap((entry) => {
      const isTable = isTableEntry(entry)
      const path = isTable ? pathOf(this.source, this.database, entry.schema!, entry.name) : others.get(entry.id)?.path
      if (path === undefined || !wanted.has(path)) return []
      return [{ path, name: entry.name, kind: isTable ? 'table' : others.get(entry.id)!.kind, entry }]
    })
  }

  private async dropOnce(
    client: pg.Client,
    access: PostgresAccess & { id: string },
    entries: StructureEntry[],
    due: Made[],
    last: boolean,
  ): Promise<void> {
    let failed = new Map<Made, string>()
    await this.inTransaction(client, access, async () => {
      await this.keep(client, access, entries, due)
      failed = await dropAll(client, due, new EntryWriter(client, this.writing, []))
    })
    for (const made of due) {
      const why = failed.get(made)
      if (why === undefined) this.gone(made)
      else if (last) this.told(made.path, made.name, `It stays, because ${why}`)
    }
  }

  private async keep(client: pg.Client, access: PostgresAccess & { id: string }, entries: StructureEntry[], due: Made[]): Promise<void> {
    const tables = due.filter(({ kind }) => kind === 'table').map(({ entry }) => ({ schema: entry.schema!, name: entry.name }))
    for (const { schema, name } of tables) await client.query(`lock table only ${qualified(schema, name)} in access exclusive mode`)
    const others = due.filter(({ kind }) => kind !== 'table').map(({ path, kind, entry }): OtherThing => ({ path, kind, entry: entry.id }))
    const into = { access, database: this.database, before: this.before, days: this.days }
    await keepOverwritten(this.run, this.vessel, this.store, client, into, { tables, others }, entries)
    await this.run.say('info', `What goes was kept as a point of its own: ${plural(due.length, 'thing')}.`)
  }

  private gone({ path, name }: Pick<Made, 'path' | 'name'>): void {
    this.settled.add(path)
    this.receipts.line(path, name, 'drop', 'dropped', { reason: 'Nothing stood there before, so it is gone again.' })
  }

  private told(path: string, name: string, reason: string): void {
    this.settled.add(path)
    this.receipts.line(path, name, 'drop', 'left', { reason, equal: false })
  }
}

/** A role belongs to the whole server: it is told that it stays. */
export function rolesStay(paths: string[], receipts: Receipts): void {
  for (const path of paths) {
    const [, role, ...below] = namesOf(path)
    if (below.length > 0 || !role!.startsWith('role ')) continue
    receipts.line(path, role!, 'drop', 'left', { reason: 'A role belongs to the whole server, so it stays.', equal: false })
  }
}

const KEYS = `select split_part(k, '/', 1)::oid as class, split_part(k, '/', 2)::oid as oid from unnest($1::text[]) k`

/** Tables that are partitions or inherit; partitions of an index are no things of their own. */
const CHILDREN = `select h.inhrelid from pg_catalog.pg_inherits h join pg_catalog.pg_class c on c.oid = h.inhrelid where c.relkind in ('r', 'p', 'f')`

/** What needs one of some things and is neither one of them nor a part of one, with which of them it needs. */
const NEEDED = `
  with recursive due as (${KEYS}),
    parts as (select class, oid, class as of_class, oid as of_oid from due
      union select d.classid, d.objid, p.of_class, p.of_oid from pg_catalog.pg_depend d join parts p on d.refclassid = p.class and d.refobjid = p.oid
        where d.deptype in ('a', 'i', 'e') and not (d.classid = 'pg_catalog.pg_class'::regclass and d.objid in (${CHILDREN}))),
    needing as (select d.classid, d.objid, d.objsubid, p.of_class, p.of_oid from pg_catalog.pg_depend d join parts p on d.refclassid = p.class and d.refobjid = p.oid
        where d.deptype in ('n', 'a', 'P', 'S')
      union select 'pg_catalog.pg_class'::regclass, h.inhrelid, 0, p.of_class, p.of_oid from pg_catalog.pg_inherits h join parts p on p.class = 'pg_catalog.pg_class'::regclass and p.oid = h.inhparent)
  select of_class || '/' || of_oid as key, regexp_replace(min(pg_catalog.pg_describe_object(n.classid, n.objid, n.objsubid)), '^rule "?_RETURN"? on ', '') as by from needing n
  where not exists (select from parts p where p.class = n.classid and p.oid = n.objid) group by 1`

/** What a thing is called where dependencies are kept. */
const addressOf = ({ entry }: Made) => `${entry.catalog}/${entry.oid}`

/**
 * Drops things that may need each other, in circles too, and nothing else: what something else needs stays, with all
 * that it needs in its turn. Returns why, for those that stay.
 */
async function dropAll(client: pg.Client, due: Made[], writer: EntryWriter): Promise<Map<Made, string>> {
  const stays = new Map<Made, string>()
  let rest = [...due].reverse()
  for (;;) {
    const { rows } = await client.query<{ key: string; by: string }>(NEEDED, [rest.map(addressOf)])
    if (rows.length === 0) break
    const needed = new Map(rows.map(({ key, by }) => [key, by]))
    for (const made of rest.filter((candidate) => needed.has(addressOf(candidate))))
      stays.set(made, `${needed.get(addressOf(made))} needs it.`)
    rest = rest.filter((made) => !stays.has(made))
  }
  for (const made of rest) {
    const why = await dropOne(client, made, writer)
    if (why !== null) stays.set(made, why)
  }
  return stays
}

/** Gone already with another one. */
const GONE = /^(42704|42883|42P01|3F000|42703)$/

async function dropOne(client: pg.Client, { entry, kind }: Made, writer: EntryWriter): Promise<string | null> {
  // Rights that were given where none were told are what they were when the thing was made.
  if (kind === 'rights') {
    await writer.resetInitial(entry)
    return writer.unrestored.splice(0)[0]?.why ?? null
  }
  if (kind === 'subscription' && (await isEnabled(client, entry.name))) return 'it was switched on since.'
  for (const statement of droppedBy(entry)) {
    // Nothing but what goes too needs it.
    const whole = /^DROP (?!USER MAPPING)/.test(statement) ? `${statement} CASCADE` : statement
    const failure = await attempt(client, whole)
    if (failure && !GONE.test(failure.code)) return `the server would not let it go: ${failure.message}.`
  }
  return null
}

async function isEnabled(client: pg.Client, subscription: string): Promise<boolean> {
  const { rows } = await client.query<{ subenabled: boolean }>(
    `select subenabled from pg_catalog.pg_subscription where subname = $1 and subdbid = (select oid from pg_catalog.pg_database where datname = current_database())`,
    [subscription],
  )
  return rows[0]?.subenabled ?? false
}

/** Things that a restore made where nothing stood, by where they stand. */
export async function madeBy(engine: EngineContext, runId: string): Promise<string[]> {
  const { params } = await engine.db.selectFrom('run').select('params').where('id', '=', runId).executeTakeFirstOrThrow()
  const { into } = wishOf((params as { wish?: Partial<Wish> }).wish ?? {})
  const lines = await engine.db
    .selectFrom('receipt')
    .select(['path', 'target', 'outcome'])
    .where('run_id', '=', runId)
    .where('verb', '=', 'make')
    .where('outcome', 'in', ['made', 'renamed'])
    .orderBy('ordinal')
    .execute()
  return lines
    .filter(({ path }) => !isLargeObjects(path))
    .map(({ path, target, outcome }) => {
      const [source, database, ...names] = namesOf(path)
      if (names.length === 0) return path
      const place = placeOf(into, source!, database!, database!)
      return pathOf(place.source, place.database, ...(outcome === 'renamed' ? namesIn(target) : names))
    })
}

/** The names in a quoted, qualified name. */
const namesIn = (key: string): string[] => tokensOf(key).flatMap((token) => identifierOf(token) ?? [])
