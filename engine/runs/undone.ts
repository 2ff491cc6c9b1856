import { errorRecord } from '../../core/errors'
import { accessOf, clusterAccessOf } from '../catalog/sources'
import { openStore } from '../catalog/stores'
import type { EngineContext } from '../context'
import { ClusterClient } from '../sources/kubernetes/client'
import { removeLeftOf } from '../sources/kubernetes/temporary'
import { withClient } from '../sources/postgres/connect'
import { dropMade } from '../sources/postgres/make-database'
import { isAhead } from '../store/strangers'
import type { RestingWorkload, Undo } from './context'

const ANSWERS_WITHIN_MS = 30_000

/**
 * Undoes what a run has made outside and did not finish. What can't be undone now stays on record and is tried again.
 * Returns what became of each thing, in words.
 */
export async function undoAll(engine: EngineContext, runId: string): Promise<string[]> {
  const said: string[] = []
  const rows = await engine.db.selectFrom('run_undo').select('ordinal').where('run_id', '=', runId).orderBy('ordinal').execute()
  for (const { ordinal } of rows)
    await engine.db.transaction().execute(async (tx) => {
      const of = { run_id: runId, ordinal }
      const row = await tx
        .selectFrom('run_undo')
        .select(['kind', 'what'])
        .where((eb) => eb.and(of))
        .forUpdate()
        .skipLocked()
        .executeTakeFirst()
      if (!row) return
      const { words, done } = await undoOne(engine, runId, row as Undo)
      if (words) said.push(words)
      if (done)
        await tx
          .deleteFrom('run_undo')
          .where((eb) => eb.and(of))
          .execute()
    })
  return said
}

/** What runs that are over have left because it could not be undone then. */
export async function undoLeft(engine: EngineContext): Promise<void> {
  const runs = await engine.db
    .selectFrom('run_undo')
    .innerJoin('run', 'run.id', 'run_undo.run_id')
    .select('run.id')
    .distinct()
    .where('run.state', 'not in', ['waiting', 'running'])
    .execute()
  for (const { id } of runs) {
    const said = await undoAll(engine, id)
    const open = await engine.db.selectFrom('run_undo').select('ordinal').where('run_id', '=', id).executeTakeFirst()
    const text = 'What it had made and not finished is undone now.'
    if (!open && said.length > 0)
      await engine.db.insertInto('run_message').values({ run_id: id, at: engine.clock.now(), level: 'info', text }).execute()
  }
}

interface Undone {
  /** Empty where nobody has to know. */
  words: string
  /** Whether nothing is left to be tried. */
  done: boolean
}

function undoOne(engine: EngineContext, runId: string, undo: Undo): Promise<Undone> {
  if (undo.kind === 'database') return drop(engine, undo.what)
  return undo.kind === 'rest' ? start(engine, undo.what) : remove(engine, runId, undo.what)
}

/** The point that a run made, if it did. */
export const pointOf = (engine: EngineContext, runId: string) =>
  engine.db.selectFrom('point').select('id').where('run_id', '=', runId).where('kept_for', 'is', null).executeTakeFirst()

/** What a run made in a cluster for a time; what stays there for a point is left where that was made. */
async function remove(engine: EngineContext, runId: string, { source }: { source: string }): Promise<Undone> {
  try {
    const access = await clusterAccessOf(engine, source)
    const point = await pointOf(engine, runId)
    await ClusterClient.with(access, (client) => removeLeftOf(client, runId, !point))
    return { words: '', done: true }
  } catch (error) {
    const { code, what } = errorRecord(error)
    if (code === 'source_missing') return { words: '', done: true }
    return {
      words: `What it had made in ${source} for a time may be there still, and is removed as soon as that answers: ${what}`,
      done: false,
    }
  }
}

/** A store that holds more than this catalog knows, by its name; those that can't be looked at say nothing. */
async function storeAhead(engine: EngineContext): Promise<string | null> {
  for (const { id, name } of await engine.db.selectFrom('store').select(['id', 'name']).execute()) {
    const store = await openStore(engine, { id }).catch(() => null)
    if (store && (await isAhead(store))) return name
  }
  return null
}

/** A database that a restore had made for itself does not stay half-filled. */
async function drop(engine: EngineContext, what: { source: string; database: string; oid: number | null }): Promise<Undone> {
  const { source, database } = what
  try {
    const access = await accessOf(engine, source)
    return await withClient(access, undefined, async (client): Promise<Undone> => {
      const ahead = await storeAhead(engine)
      // What was being made when the copy of the catalog was made may be finished, and in use, for long.
      if (ahead)
        return { words: `The database ${database} stays: the catalog is older than ${ahead}, so that it may be finished.`, done: false }
      await dropMade(client, access, what)
      return { words: `The database ${database}, which it was making, is dropped again.`, done: true }
    })
  } catch (error) {
    const words = `The database ${database}, which it was making, is half-filled and could not be dropped yet: ${errorRecord(error).what}`
    return { words, done: false }
  }
}

/** A workload that was put to rest while its volumes were written runs again, unless one of them is half-filled. */
async function start(engine: EngineContext, { source, path, label, start: spec, half }: RestingWorkload): Promise<Undone> {
  if (half.length > 0)
    return {
      words: `${label} of ${source} stays at rest: its volume ${half.join(', ')} may hold half of what should come back.`,
      done: true,
    }
  try {
    const signal = AbortSignal.timeout(ANSWERS_WITHIN_MS)
    const change = { method: 'PATCH', contentType: 'application/merge-patch+json', body: { spec }, signal } as const
    await ClusterClient.with(await clusterAccessOf(engine, source), (client) => client.ask(path, change))
    return { words: `${label} of ${source}, which was at rest, is started again.`, done: true }
  } catch (error) {
    return { words: `${label} of ${source} is at rest and could not be started again yet: ${errorRecord(error).what}`, done: false }
  }
}
