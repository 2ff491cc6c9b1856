import { SOURCE_NAME } from '../../core/asked'
import { randomUUID } from 'node:crypto'
import { sql } from 'kysely'
import { VesselError, errorRecord } from '../../core/errors'
import { isWithin, namesOf, pathOf, type Thing } from '../../core/things/thing'
import type { EngineContext } from '../context'
import { notify } from '../notify'
import type { ClusterAccess, ClusterSecret, ClusterSettings } from '../sources/kubernetes/access'
import type { PostgresAccess, PostgresSettings } from '../sources/postgres/connect'
import { adapterOf, type SourceAccess, type SourceKind } from '../sources/adapter'
import type { ProbeReport, SourceAdapter } from '../sources/source'
import type { Vessel } from './vessels'

export type NewSource =
  { name: string; settings: PostgresSettings; password: string } | { name: string; settings: ClusterSettings; secret: ClusterSecret }

/** How to reach a source that is not saved. */
export const accessTo = (source: NewSource): SourceAccess =>
  'secret' in source ? { kind: 'kubernetes', ...source } : { kind: 'postgres', ...source }

export const secretOf = (access: SourceAccess) => (access.kind === 'postgres' ? access.password : JSON.stringify(access.secret))

/** Connects a source for good: probes it, saves it, discovers it. Nothing is saved when it can't be used. */
export async function addSource(engine: EngineContext, source: NewSource): Promise<string> {
  if (!SOURCE_NAME.test(source.name)) {
    throw new VesselError('source_name', {
      what: `“${source.name}” can’t be the name of a source.`,
      touched: 'Nothing was saved.',
      next: 'Use up to 63 characters without slashes and wildcards.',
    })
  }
  const namesake = await engine.db.selectFrom('source').select('id').where('name', '=', source.name).executeTakeFirst()
  if (namesake) {
    throw new VesselError('source_exists', {
      what: `There is a source called ${source.name} already.`,
      touched: 'Nothing was saved.',
      next: 'Choose another name.',
      status: 409,
    })
  }
  const access = accessTo(source)
  const report = await adapterOf(access).probe(engine.clock.now())
  if (!report.usable) {
    const missing = report.findings.find((finding) => finding.outcome === 'missing')!
    throw new VesselError('source_unusable', {
      what: missing.detail,
      touched: 'The source was not saved.',
      next: missing.mend ?? 'Mend it and test again.',
    })
  }
  const id = randomUUID()
  await engine.db
    .insertInto('source')
    .values({
      id,
      name: source.name,
      kind: access.kind,
      settings: JSON.stringify(source.settings),
      sealed_secret: engine.secrets.seal(secretOf(access), `source ${id}`),
      probe: JSON.stringify(report),
      created_at: engine.clock.now(),
    })
    .execute()
  await discoverSource(engine, id)
  return id
}

async function sourceRow(engine: EngineContext, name: string) {
  const row = await engine.db.selectFrom('source').selectAll().where('name', '=', name).executeTakeFirst()
  if (row) return row
  throw missing(`There is no source called ${name} any more.`, 'Connect it again under the same name.')
}

const missing = (what: string, next: string) =>
  new VesselError('source_missing', { what, touched: 'Nothing was changed.', next, status: 404 })

/** A source by its name, behind the interface of all kinds. */
export async function openSource(engine: EngineContext, name: string): Promise<{ id: string; source: SourceAdapter }> {
  const row = await sourceRow(engine, name)
  return { id: row.id, source: adapterOf(openAccess(engine, row)) }
}

/** How to reach a PostgreSQL source, for restores, which are its own affair so far. */
export async function accessOf(engine: EngineContext, name: string): Promise<PostgresAccess & { id: string }> {
  return ofPostgres(openAccess(engine, await sourceRow(engine, name)))
}

/** How to reach a cluster, for bringing something back into it. */
export async function clusterAccessOf(engine: EngineContext, name: string): Promise<ClusterAccess & { id: string }> {
  const access = openAccess(engine, await sourceRow(engine, name))
  if (access.kind === 'kubernetes') return access
  throw new VesselError('not_cluster', {
    what: `${access.name} is no cluster.`,
    touched: 'Nothing was changed.',
    next: 'Choose a source that is one.',
  })
}

export async function accessById(engine: EngineContext, id: string): Promise<PostgresAccess & { id: string }> {
  return ofPostgres(openAccess(engine, await rowById(engine, id)))
}

/** @throws VesselError `source_missing` */
export async function rowById(engine: EngineContext, id: string) {
  const row = await engine.db.selectFrom('source').selectAll().where('id', '=', id).executeTakeFirst()
  if (row) return row
  throw missing('There is no such source.', 'Choose one of those under Sources.')
}

function ofPostgres(access: SourceAccess & { id: string }): PostgresAccess & { id: string } {
  if (access.kind === 'postgres') return access
  throw new VesselError('not_postgres', {
    what: `${access.name} is no PostgreSQL server.`,
    touched: 'Nothing was changed.',
    next: 'Choose a source that is one.',
  })
}

interface SourceRow {
  id: string
  name: string
  kind: SourceKind
  settings: unknown
  sealed_secret: Buffer | null
}

export function openAccess(
  engine: EngineContext,
  { id, name, kind, settings, sealed_secret: sealed }: SourceRow,
): SourceAccess & { id: string } {
  const secret = sealed ? engine.secrets.open(sealed, `source ${id}`).toString() : ''
  if (kind === 'postgres') return { id, kind, name, settings: settings as PostgresSettings, password: secret }
  return { id, kind, name, settings: settings as ClusterSettings, secret: JSON.parse(secret) as ClusterSecret }
}

/** A saved source by its id, behind the interface of all kinds. */
export async function sourceById(engine: EngineContext, id: string): Promise<SourceAdapter> {
  return adapterOf(openAccess(engine, await rowById(engine, id)))
}

/** The time zone in which the sources of a vessel tell times themselves; null where that is not known, or they differ. */
export async function zoneOfSources(engine: EngineContext, { definition }: Vessel): Promise<string | null> {
  const named = definition.rules.map(({ pattern }) => namesOf(pattern)[0]!)
  const rows = await engine.db.selectFrom('source').select('probe').where('name', 'in', named).execute()
  const zones = new Set(rows.map(({ probe }) => probe?.server?.zone ?? null))
  return zones.size === 1 ? [...zones][0]! : null
}

/** Sets how many runs may work at it at once; null: as many as there are. @throws VesselError `source_missing` */
export async function setSourceAtOnce(engine: EngineContext, id: string, atOnce: number | null): Promise<void> {
  await rowById(engine, id)
  await engine.db.updateTable('source').set({ at_once: atOnce }).where('id', '=', id).execute()
  await notify(engine.db, { about: 'things' })
}

/** Probes a saved source again, and keeps the report. */
export async function probeSource(engine: EngineContext, id: string): Promise<ProbeReport> {
  const report = await (await sourceById(engine, id)).probe(engine.clock.now())
  await engine.db
    .updateTable('source')
    .set({ probe: JSON.stringify(report) })
    .where('id', '=', id)
    .execute()
  await notify(engine.db, { about: 'things' })
  return report
}

/**
 * Looks at everything that a source holds. What is no longer there is kept, marked as gone.
 *
 * @param seenUntil until then nothing had changed since it was looked last, where that is known
 */
export async function discoverSource(engine: EngineContext, id: string, seenUntil?: Date): Promise<void> {
  const row = await rowById(engine, id)
  const now = engine.clock.now()
  try {
    const things: Thing[] = []
    const scratch = await scratchRoots(engine, row)
    for await (const thing of adapterOf(openAccess(engine, row)).discover()) {
      if (!scratch.some((root) => isWithin(thing.path, root))) things.push(thing)
    }
    await saveThings(engine, id, things, { now, after: seenUntil ?? row.discovered_at })
    await engine.db.updateTable('source').set({ discovered_at: now, trouble: null }).where('id', '=', id).execute()
  } catch (error) {
    await engine.db
      .updateTable('source')
      .set({ trouble: JSON.stringify(errorRecord(error)) })
      .where('id', '=', id)
      .execute()
  }
  await notify(engine.db, { about: 'things' })
}

/** Scratch copies are ours, and nothing to protect. */
async function scratchRoots(engine: EngineContext, { id, name }: { id: string; name: string }): Promise<string[]> {
  const rows = await engine.db.selectFrom('scratch').select('database').where('source_id', '=', id).where('state', '<>', 'gone').execute()
  return rows.map(({ database }) => pathOf(name, database))
}

const SAVED_AT_ONCE = 5000

/** A source is looked at whenever something in it changes, so only what changed is written. */
async function saveThings(
  engine: EngineContext,
  id: string,
  things: Thing[],
  { now, after }: { now: Date; after: Date | null },
): Promise<void> {
  const column = <T>(part: Thing[], value: (thing: Thing) => T) => part.map(value)
  await engine.db.transaction().execute(async (tx) => {
    await sql`
      update thing set gone_at = ${now}, gone_after = ${after}, gone_meant_at = null, back_at = null, back_run = null where source_id = ${id} and gone_at is null
      and not exists (select from unnest(${column(things, ({ path }) => path)}::text[]) seen (path) where seen.path = thing.path)`.execute(
      tx,
    )
    for (let from = 0; from < things.length; from += SAVED_AT_ONCE) {
      const part = things.slice(from, from + SAVED_AT_ONCE)
      await sql`
        insert into thing (source_id, path, kind, labels, facts, first_seen)
        select ${id}, path, kind, labels::jsonb, facts::jsonb, ${now} from unnest(
          ${column(part, ({ path }) => path)}::text[], ${column(part, ({ kind }) => kind)}::text[],
          ${column(part, ({ labels }) => JSON.stringify(labels))}::text[], ${column(part, ({ facts }) => JSON.stringify(facts))}::text[]
        ) seen (path, kind, labels, facts)
        on conflict (source_id, path) do update
        set kind = excluded.kind, labels = excluded.labels, facts = excluded.facts, gone_at = null, gone_after = null
        where thing.gone_at is not null
        or (thing.kind, thing.labels, thing.facts) is distinct from (excluded.kind, excluded.labels, excluded.facts)`.execute(tx)
    }
    // What is there under another name in the same database is not lost.
    const databaseOf = (path: string) => sql`split_part(${sql.ref(path)}, '/', 2)`
    await sql`
      update thing set gone_meant_at = ${now} where source_id = ${id} and gone_at = ${now} and facts ? 'oid'
      and exists (select from thing there where there.source_id = ${id} and there.gone_at is null and there.path <> thing.path
        and there.facts -> 'oid' = thing.facts -> 'oid' and ${databaseOf('there.path')} = ${databaseOf('thing.path')})`.execute(tx)
  })
}

/** A thing, and since when it has been known. */
export type FoundThing = Thing & { since: Date }

/** All things that are there, for evaluating rules. */
export async function thingsPresent(engine: EngineContext, source?: string): Promise<FoundThing[]> {
  let query = engine.db
    .selectFrom('thing')
    .innerJoin('source', 'source.id', 'thing.source_id')
    .select(['thing.path', 'thing.kind', 'thing.labels', 'thing.facts', 'thing.first_seen as since'])
    .where('thing.gone_at', 'is', null)
    .orderBy('thing.path')
  if (source) query = query.where('source.name', '=', source)
  return query.execute()
}
