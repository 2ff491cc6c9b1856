import { randomUUID } from 'node:crypto'
import { VesselError, errorRecord } from '../../core/errors'
import { isWithin, pathOf, type Thing } from '../../core/things/thing'
import type { EngineContext } from '../context'
import { notify } from '../notify'
import type { PostgresAccess, PostgresSettings } from '../sources/postgres/connect'
import { adapterOf } from '../sources/adapter'
import type { ProbeReport, SourceAdapter } from '../sources/source'

export interface NewSource {
  name: string
  settings: PostgresSettings
  password: string
}

const NAME = /^[^\s/*?][^/*?]{0,62}$/

/** Connects a source for good: probes it, saves it, discovers it. Nothing is saved when it can't be used. */
export async function addSource(engine: EngineContext, source: NewSource): Promise<string> {
  if (!NAME.test(source.name)) {
    throw new VesselError('source_name', {
      what: `“${source.name}” can’t be the name of a source.`,
      touched: 'Nothing was saved.',
      next: 'Use up to 63 characters without slashes and wildcards.',
    })
  }
  const taken = await engine.db.selectFrom('source').select('id').where('name', '=', source.name).executeTakeFirst()
  if (taken) {
    throw new VesselError('source_exists', {
      what: `There is a source called ${source.name} already.`,
      touched: 'Nothing was saved.',
      next: 'Choose another name.',
      status: 409,
    })
  }
  const report = await adapterOf('postgres', source).probe(engine.clock.now())
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
      kind: 'postgres',
      settings: JSON.stringify(source.settings),
      sealed_secret: engine.secrets.seal(source.password, `source ${id}`),
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
  throw new VesselError('source_missing', {
    what: `There is no source called ${name} any more.`,
    touched: 'Nothing was changed.',
    next: 'Connect it again under the same name.',
    status: 404,
  })
}

/** A source by its name, behind the interface of all kinds. */
export async function openSource(engine: EngineContext, name: string): Promise<{ id: string; source: SourceAdapter }> {
  const row = await sourceRow(engine, name)
  return { id: row.id, source: adapterOf(row.kind, openAccess(engine, row)) }
}

/** How to reach a PostgreSQL source, for restores, which are its own affair so far. */
export async function accessOf(engine: EngineContext, name: string): Promise<PostgresAccess & { id: string }> {
  return openAccess(engine, await sourceRow(engine, name))
}

export async function accessById(engine: EngineContext, id: string): Promise<PostgresAccess & { id: string }> {
  return openAccess(engine, await engine.db.selectFrom('source').selectAll().where('id', '=', id).executeTakeFirstOrThrow())
}

function openAccess(engine: EngineContext, row: { id: string; name: string; settings: unknown; sealed_secret: Buffer | null }) {
  const password = row.sealed_secret ? engine.secrets.open(row.sealed_secret, `source ${row.id}`).toString() : ''
  return { id: row.id, name: row.name, settings: row.settings as PostgresSettings, password }
}

/** Probes a saved source again, and keeps the report. */
export async function probeSource(engine: EngineContext, id: string): Promise<ProbeReport> {
  const row = await engine.db.selectFrom('source').selectAll().where('id', '=', id).executeTakeFirstOrThrow()
  const report = await adapterOf(row.kind, openAccess(engine, row)).probe(engine.clock.now())
  await engine.db
    .updateTable('source')
    .set({ probe: JSON.stringify(report) })
    .where('id', '=', id)
    .execute()
  await notify(engine.db, { about: 'estate' })
  return report
}

/** Looks at everything that a source holds. What is no longer there is kept, marked as gone. */
export async function discoverSource(engine: EngineContext, id: string): Promise<void> {
  const row = await engine.db.selectFrom('source').selectAll().where('id', '=', id).executeTakeFirstOrThrow()
  const now = engine.clock.now()
  try {
    const things: Thing[] = []
    const scratch = await scratchRoots(engine, row)
    for await (const thing of adapterOf(row.kind, openAccess(engine, row)).discover()) {
      if (!scratch.some((root) => isWithin(thing.path, root))) things.push(thing)
    }
    await saveThings(engine, id, things, now)
    await engine.db.updateTable('source').set({ discovered_at: now, trouble: null }).where('id', '=', id).execute()
  } catch (error) {
    await engine.db
      .updateTable('source')
      .set({ trouble: JSON.stringify(errorRecord(error)) })
      .where('id', '=', id)
      .execute()
  }
  await notify(engine.db, { about: 'estate' })
}

/** Scratch copies are ours, and nothing to protect. */
async function scratchRoots(engine: EngineContext, { id, name }: { id: string; name: string }): Promise<string[]> {
  const rows = await engine.db.selectFrom('scratch').select('database').where('source_id', '=', id).where('state', '<>', 'gone').execute()
  return rows.map(({ database }) => pathOf(name, database))
}

async function saveThings(engine: EngineContext, id: string, things: Thing[], now: Date): Promise<void> {
  await engine.db.transaction().execute(async (tx) => {
    await tx.updateTable('thing').set({ gone_at: now }).where('source_id', '=', id).where('gone_at', 'is', null).execute()
    for (let from = 0; from < things.length; from += 2000) {
      await tx
        .insertInto('thing')
        .values(
          things.slice(from, from + 2000).map((thing) => ({
            source_id: id,
            path: thing.path,
            kind: thing.kind,
            labels: JSON.stringify(thing.labels),
            facts: JSON.stringify(thing.facts),
            first_seen: now,
            gone_at: null,
          })),
        )
        .onConflict((conflict) =>
          conflict.columns(['source_id', 'path']).doUpdateSet((eb) => ({
            kind: eb.ref('excluded.kind'),
            labels: eb.ref('excluded.labels'),
            facts: eb.ref('excluded.facts'),
            gone_at: null,
          })),
        )
        .execute()
    }
  })
}

/** All things that are there, for evaluating rules. */
export async function thingsPresent(engine: EngineContext, source?: string): Promise<Thing[]> {
  let query = engine.db
    .selectFrom('thing')
    .innerJoin('source', 'source.id', 'thing.source_id')
    .select(['thing.path', 'thing.kind', 'thing.labels', 'thing.facts'])
    .where('thing.gone_at', 'is', null)
    .orderBy('thing.path')
  if (source) query = query.where('source.name', '=', source)
  return query.execute()
}
