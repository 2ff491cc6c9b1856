import { sql } from 'kysely'
import { plural } from '../../core/time/words'
import { thingKey } from '../../core/restore/sql'
import { lastName, namesOf } from '../../core/things/thing'
import type { EngineContext } from '../context'

/** What came back after it was lost, by which run: told for a day, with the receipt. */
export interface Returned {
  run: string
  at: Date
  what: string
}

/** Paths of things that are gone, before a restore brings some of them back. */
export async function gonePaths(engine: EngineContext): Promise<Set<string>> {
  const rows = await engine.db.selectFrom('thing').select('path').where('gone_at', 'is not', null).execute()
  return new Set(rows.map(({ path }) => path))
}

/**
 * Writes down of what was lost that a run brought it back where it was: what its receipt says is there, and equal.
 *
 * @param isWhole whether the run was to bring all of a thing back to where it was
 * @param wereGone what was gone before it
 */
export async function noteReturns(
  engine: EngineContext,
  runId: string,
  isWhole: (path: string) => boolean,
  wereGone: ReadonlySet<string>,
): Promise<void> {
  const receipts = await engine.db
    .selectFrom('receipt')
    .select(['path', 'target'])
    .where('run_id', '=', runId)
    .where((eb) =>
      eb.or([eb('outcome', 'in', ['made', 'replaced', 'merged']), eb.and([eb('outcome', '=', 'left'), eb('equal', '=', true)])]),
    )
    .where((eb) => eb.or([eb('equal', 'is', null), eb('equal', '=', true)]))
    // Of an undo, rows that something has changed since stay as they are, and are told.
    .where((eb) => eb.or([eb('verb', '<>', 'undo'), eb('reason', 'is', null)]))
    .execute()
  const isInPlace = (path: string, target: string) => {
    const [, , schema, name] = namesOf(path)
    return target === path || (name !== undefined && target === thingKey(schema!, name))
  }
  const back = new Set(receipts.flatMap(({ path, target }) => (isWhole(path) && isInPlace(path, target) ? [path] : [])))
  if (back.size === 0) return
  await engine.db.transaction().execute(async (tx) => {
    const losses = await tx.selectFrom('loss').select(['id', 'tables']).where('back_at', 'is', null).forUpdate().execute()
    for (const { id, tables } of losses) {
      if (!tables.some(({ path, back: by }) => by === undefined && back.has(path))) continue
      const now = tables.map((table) => (table.back === undefined && back.has(table.path) ? { ...table, back: runId } : table))
      const isOver = now.every((table) => table.back !== undefined)
      await tx
        .updateTable('loss')
        .set({ tables: JSON.stringify(now), ...(isOver ? { back_at: sql<Date>`now()`, back_run: runId } : {}) })
        .where('id', '=', id)
        .execute()
    }
    const things = [...back].filter((path) => wereGone.has(path))
    if (things.length > 0)
      await tx
        .updateTable('thing')
        .set({ back_at: sql<Date>`now()`, back_run: runId })
        .where('path', 'in', things)
        .execute()
  })
}

/** What came back within the last day, the newest first. */
export async function returned(engine: EngineContext): Promise<Returned[]> {
  const { rows } = await sql<{ run: string; at: Date; path: string }>`
    select back_run as run, max(back_at) as at, path from (
      select back_run, back_at, path from thing where back_at > now() - interval '1 day' and gone_at is null
      union all select l.back_run, l.back_at, t ->> 'path' from loss l, jsonb_array_elements(l.tables) t
        where l.back_at > now() - interval '1 day' and l.meant_at is null) back
    where exists (select from run where run.id = back.back_run)
    group by back_run, path order by 2 desc, 3`.execute(engine.db)
  const byRun = new Map<string, { at: Date; paths: string[] }>()
  for (const { run, at, path } of rows) {
    const home = byRun.get(run) ?? { at, paths: [] }
    byRun.set(run, home)
    home.paths.push(path)
  }
  return [...byRun].map(([run, { at, paths }]) => ({
    run,
    at,
    what: `${paths.length === 1 ? lastName(paths[0]!) : `${plural(paths.length, 'thing')} (${paths.slice(0, 3).map(lastName).join(', ')}${paths.length > 3 ? '…' : ''})`} ${paths.length === 1 ? 'is' : 'are'} back.`,
  }))
}
